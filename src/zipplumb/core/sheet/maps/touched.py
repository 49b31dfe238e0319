"""The nodes of a map of what was touched: each hit is a place. It is there while the rows are still being measured."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, cast

import numpy as np
from scipy.spatial import cKDTree

from ...alignment import Alignment
from ...cloud.deviating import DeviationResult, Places
from ...fingerprints import fingerprint
from ...frames import Array, Indices
from ...readings import HitSet
from ...uncertainty import Source
from ..given import Kit, PartSurfaces, SheetRow
from ..graph import Failed, Name, Node
from ..results import RowResult
from ..row_hits import RowHits
from .found import FoundMap
from .judging import UNPLACED, found_of, judged, not_yet, system_of

Placed = Callable[[Mapping[Name, Any]], Kit]  # the kit with where stations are found to stand
ALONE_MM = 10.0  # how far one hit alone speaks for its surroundings


@dataclass(frozen=True, eq=False)
class TouchedMapNodes:
    """``placed``: the kit, with stations as they stand; ``active``: the node of the active system, and the row that it is
    ``aligned_by``."""

    placed: Placed
    surfaces: PartSurfaces | None
    active: tuple[Name, ...]
    aligned_by: int | None

    def of(self, row: SheetRow, rows: Mapping[int, SheetRow], readings: Mapping[int, HitSet]) -> dict[Name, Node]:
        """``rows``, ``readings``: those that it tells of."""
        stations = tuple(dict.fromkeys(name for reading in readings.values() for name in reading.station_names))
        needs = (*row.needs, *self.active, *stations)
        read = sorted((i, reading.digest, rows[i].finished) for i, reading in readings.items())
        faces = sorted((i, each.recipe.cad_face) for i, each in rows.items())
        own = fingerprint("touched map", "" if self.surfaces is None else self.surfaces.digest, repr(read), repr(faces))
        name: Name = ("map", row.id)
        of = row, rows, readings
        return {
            name: Node(own, needs, self._found, of),
            ("verdict", row.id): Node(row.digest, (name, *needs), self._judged, of),
        }

    def _found(
        self, of: tuple[SheetRow, Mapping[int, SheetRow], Mapping[int, HitSet]], needed: Mapping[Name, Any]
    ) -> tuple[FoundMap, RowHits | None]:
        row, rows, readings = of
        if self.surfaces is None:
            return FoundMap("failed", "The part has no CAD to compare it with."), None
        for needs in row.needs:
            found = needed[needs]
            if isinstance(found, Failed) and needs.id not in rows:
                return FoundMap("failed", found.message), None
            if rows[needs.id].recipe.cad_face is None:
                return FoundMap("failed", f"{rows[needs.id].recipe.name} is not planned on a face of the CAD."), None
        kit = self.placed(needed)
        there = {i: reading.of_stations(kit.stations) for i, reading in readings.items()}
        each = [self._hits(rows[i], reading, kit) for i, reading in there.items() if not reading.aside.all()]
        each = [hits for hits in each if len(hits.keys)]
        if not each:
            return FoundMap("todo"), None
        system = system_of(needed, self.active)
        if system is None:
            return FoundMap("waits", UNPLACED), None
        parts = [self._places(hits, cast(int, rows[hits.row].recipe.cad_face), system, self.surfaces) for hits in each]
        places = Places.joined(parts)
        hits = RowHits.joined(each)
        key = fingerprint("touched", places.points.tobytes(), places.means.tobytes())
        unfinished = [r.recipe.name for r in rows.values() if not r.finished]
        words = f"Not finished yet: {', '.join(unfinished)}." if unfinished else ""
        result = DeviationResult(len(places), 0, _apart(places.points), places)
        return FoundMap("taking" if unfinished else "done", words, key, result, apart=True), hits

    def _hits(self, row: SheetRow, reading: HitSet, kit: Kit) -> RowHits:
        """Without those that touch the plane in which an outline lies: that is another face."""
        of_plane = row.recipe.hits_of_plane
        hits = RowHits.of(row.id, reading, kit, row.finished, of_plane)
        return hits.split(of_plane)[1] if of_plane else hits

    def _places(self, hits: RowHits, face: int, system: Alignment, surfaces: PartSurfaces) -> Places:
        centers = system.points(hits.centers)
        feet, normals = surfaces.of_face(face).nearest(centers)
        off = np.einsum("ij,ij->i", centers - feet, normals) - hits.radii_mm
        count = len(off)
        return Places(feet, normals, np.full(count, face), np.arange(count), np.ones(count, np.int64), off)

    def _judged(self, of: tuple, needed: Mapping[Name, Any]) -> RowResult:
        row, value = of[0], needed["map", of[0].id]
        if isinstance(value, Failed):
            return not_yet(row, found_of(value))
        found, hits = value
        if hits is None:
            return not_yet(row, found)
        return judged(row, found, needed, self.active, _Touched(hits), self.aligned_by)


@dataclass(frozen=True, eq=False)
class _Touched:
    """Places that are hits, each for itself."""

    all: RowHits

    @cached_property
    def own_u(self) -> Array:
        return self.all.u_hits_mm

    @property
    def own_u_of_mean(self) -> float:
        return float(np.sqrt((self.own_u**2).sum())) / len(self.own_u)

    def hits(self, some: Indices) -> RowHits:
        return self.all.some(some)

    def beside(self, some: Indices) -> dict[Source, Array]:
        """The radii of tips, which come off along the normals."""
        mine = self.all.calibrations[some]
        known = {number: self.all.kit.calibrations[number] for number in dict.fromkeys(mine.tolist())}
        return {
            Source("tip", number): np.where(mine == number, -found.u_radius_mm, 0.0)[:, None] for number, found in known.items()
        }


def _apart(points: Array) -> float:
    """How far hits are from one another, as a rule."""
    if len(points) < 2:
        return ALONE_MM
    return max(float(np.median(cKDTree(points).query(points, 2)[0][:, 1])), 1e-3)
