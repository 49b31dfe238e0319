"""The nodes of a section through a scan: a map of one plane, of the scan's thinned points, at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from ...alignment import Alignment
from ...cloud.deviating import DeviationResult, Places
from ...cloud.giving import evenly
from ...cloud.points import CloudPoints
from ...cloud.slicing import sliced
from ...deriving.drawing import Drawing
from ...fingerprints import fingerprint
from ...frames import Array, Indices, unit
from ...readings import HitSet
from ..base import Needed
from ..bases.mapped import SectionRecipe
from ..given import Kit, PartSurfaces, SheetRow
from ..graph import Failed, Name, Node
from ..results import RowResult
from .found import FoundMap
from .judging import found_of, judged, not_yet, system_of
from .scanned import InLight

FACING = 0.35  # rad, by which scan and CAD face alike
WHISKERS = 300


@dataclass(frozen=True, eq=False)
class Curve:
    """Where a scan's surface cuts a plane: ``points`` (k, 3) in the plane, in the world; ``seen`` (k, 3) as they were seen,
    their ``normals`` and ``lines``; ``point``, ``across``: the plane."""

    points: Array
    seen: Array
    normals: Array
    lines: Indices
    point: Array
    across: Array

    @classmethod
    def of(cls, recipe: SectionRecipe, cloud: CloudPoints, system: Alignment | None) -> Curve | None:
        """None where the plane is told in the part, and that is not aligned."""
        point, across = np.array(recipe.point), unit(np.array(recipe.across))
        if not recipe.in_world:
            if system is None:
                return None
            there = system.part_from_world.inverse()
            point, across = there.points(point[None])[0] / system.scale, there.vectors(across[None])[0]
        some, places, normals = sliced(cloud, point, across, recipe.thick_mm)
        return cls(places, cloud.points[some], normals, cloud.lines[some], point, across)

    def __len__(self) -> int:
        return len(self.points)


@dataclass(frozen=True, eq=False)
class SectionNodes:
    """``active``: the node of the active system, and the row that it is ``aligned_by``."""

    kit: Kit
    surfaces: PartSurfaces | None
    active: tuple[Name, ...]
    aligned_by: int | None

    def of(self, row: SheetRow, scan: SheetRow | None, reading: HitSet | None) -> dict[Name, Node]:
        needs = (*row.needs, *self.active, *(() if reading is None else reading.station_names))
        own = fingerprint("section", row.digest, "" if self.surfaces is None else self.surfaces.digest)
        name: Name = ("map", row.id)
        return {
            name: Node(own, needs, self._found, (row, scan)),
            ("verdict", row.id): Node(row.digest, (name, *needs), self._judged, (row, reading)),
        }

    def _found(self, of: tuple[SheetRow, SheetRow | None], needed: Mapping[Name, Any]) -> tuple[FoundMap, int]:
        row, scan = of
        recipe = cast(SectionRecipe, row.recipe)
        cloud = needed[Needed("cloud", recipe.scan)]
        if isinstance(cloud, Failed) or scan is None:
            return FoundMap("failed", cloud.message), 0
        if cloud.state != "done":
            waits = f"Waits for {scan.recipe.name}."
            return FoundMap("failed" if cloud.state == "failed" else "waits", cloud.message or waits), 0
        system = system_of(needed, self.active)
        curve = Curve.of(recipe, cloud.points, system)
        if curve is None:
            return FoundMap("waits", "The part is not aligned yet."), 0
        if not len(curve):
            return FoundMap("failed", "Nothing of the scan lies in this plane. The scan is kept. Move the plane."), 0
        if system is None or self.surfaces is None:
            return FoundMap("done"), len(curve)
        places = _off(curve, system, self.surfaces, recipe.reach_mm)
        if not len(places):
            return FoundMap("failed", "Nothing of the scan in this plane lies on the CAD. The scan is kept."), 0
        key = fingerprint(cloud.key, places.points.tobytes(), places.means.tobytes())
        result = DeviationResult(len(curve), len(curve) - len(places), cloud.points.spacing_mm, places)
        return FoundMap("done", "", key, result), len(curve)

    def _judged(self, of: tuple[SheetRow, HitSet], needed: Mapping[Name, Any]) -> RowResult:
        row, reading = of
        value = needed["map", row.id]
        if isinstance(value, Failed):
            return not_yet(row, found_of(value))
        found, count = value
        recipe, system = cast(SectionRecipe, row.recipe), system_of(needed, self.active)
        if not len(found.places) or system is None:
            return replace(not_yet(row, found), told=f"{count} points of it, and no CAD to compare them with." if count else "")
        kit = Kit({n[1]: needed[n] for n in reading.station_names}, self.kit.calibrations)
        seen = InLight(row.id, found, system, reading, kit, recipe.scan)
        result = judged(row, found, needed, self.active, seen, self.aligned_by)
        return replace(result, draw=Drawing(segments=tuple(whiskers(found.places, recipe.times, WHISKERS))))


def _off(curve: Curve, system: Alignment, surfaces: PartSurfaces, reach_mm: float) -> Places:
    points, normals = system.points(curve.seen), system.part_from_world.vectors(curve.normals)
    feet, outward, faces = surfaces.nearest_faces(points)
    off = np.einsum("ij,ij->i", points - feet, outward)
    good = (np.abs(off) <= reach_mm) & (np.einsum("ij,ij->i", normals, outward) >= np.cos(FACING))
    some = np.flatnonzero(good)
    return Places(feet[some], outward[some], faces[some], curve.lines[some], np.ones(len(some), np.int64), off[some])


def whiskers(places: Places, times: float, most: int) -> Array:
    """(k, 2, 3) from the surface as many times as far as it is off, evenly so many at most."""
    some = evenly(np.arange(len(places)), most)
    ends = places.points[some] + times * places.means[some, None] * places.normals[some]
    return np.stack([places.points[some], ends], axis=1)
