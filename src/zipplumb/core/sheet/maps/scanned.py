"""The nodes of a scan's map: its places are worked out elsewhere."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, cast

import numpy as np

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.giving import GivenPoints
from ...cloud.light import Chunk
from ...cloud.sorting import Faces
from ...cloud.working import Progress
from ...fingerprints import fingerprint
from ...frames import Array, Indices
from ...readings import HitSet
from ...uncertainty import Source
from ..base import Needed
from ..bases.mapped import ScanMapRecipe
from ..clouds import Asked, key_prefix
from ..given import Kit, SheetRow
from ..graph import Failed, Name, Node
from ..results import RowResult
from ..row_hits import RowHits
from .found import FoundMap
from .judging import UNPLACED, found_of, judged, not_yet, system_of

Of = tuple[SheetRow, SheetRow, HitSet, Any, tuple[Name, ...]]  # a row, its scan, its light, its work, its system


@dataclass(frozen=True, eq=False)
class AskedMap(Asked):
    """The deviations of a scan."""

    what = "map"
    row: int
    lines: int
    work: DeviationWork
    scan: int
    faces: None = None

    @property
    def on_cad(self) -> bool:
        return True

    @property
    def of_scan(self) -> int:
        return self.scan

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces | None, progress: Progress) -> FoundMap:
        assert faces is not None  # without CAD it is not asked for
        return FoundMap("done", result=self.work.run(chunks, total, faces, progress))

    def with_what_is_known(self, found: Any) -> Any:
        return found


@dataclass(frozen=True, eq=False)
class MapNodes:
    """``kit``: stations and calibrations; ``surfaces``: names the part's; ``active``: the node of the active system, and the
    row that it is ``aligned_by``."""

    kit: Kit
    surfaces: str
    active: tuple[Name, ...]
    aligned_by: int | None

    def of(self, row: SheetRow, scan: SheetRow | None, reading: HitSet | None, calibrated: str, work: Any) -> dict[Name, Node]:
        """``work``: makes a scan's ``CloudWork`` of its stations."""
        recipe = cast(ScanMapRecipe, row.recipe)
        active = self.active if recipe.system is None else (("system", recipe.system),)
        needs = tuple(dict.fromkeys((*row.needs, *active)))
        if reading is not None:
            needs = (*needs, *reading.station_names)
        own = fingerprint("map", recipe.kind, repr(recipe.what_counts), self.surfaces, calibrated)
        of = row, scan, reading, work, active
        name: Name = ("map", row.id)
        return {
            name: Node(own, needs, self._asked, of, heavy=True),
            ("verdict", row.id): Node(row.digest, (name, *needs), self._judged, of),
        }

    def _asked(self, of: Of, needed: Mapping[Name, Any]) -> FoundMap | AskedMap:
        row, scan, reading, work, active = of
        recipe = cast(ScanMapRecipe, row.recipe)
        cloud = needed[Needed("cloud", recipe.scan)]
        if isinstance(cloud, Failed) or scan is None:
            return FoundMap("failed", cloud.message)
        if cloud.state != "done":
            waits = f"Waits for {scan.recipe.name}."
            return FoundMap("failed" if cloud.state == "failed" else "waits", cloud.message or waits)
        if not self.surfaces:
            return FoundMap("failed", "The part has no CAD to compare it with.")
        system = system_of(needed, active)
        if system is None:
            return FoundMap("waits", UNPLACED)
        return AskedMap(row.id, cloud.lines, recipe.work(work(scan, reading, needed), system), scan.id)

    def _judged(self, of: Of, needed: Mapping[Name, Any]) -> RowResult:
        row, _, reading, _, active = of
        found, system = found_of(needed["map", row.id]), system_of(needed, active)
        if found.state != "done" or system is None:
            return not_yet(row, found)
        kit = Kit({n[1]: needed[n] for n in reading.station_names}, self.kit.calibrations)
        recipe = cast(ScanMapRecipe, row.recipe)
        seen = InLight(row.id, found, system, reading, kit, recipe.scan)
        return judged(row, found, needed, active, seen, recipe.system or self.aligned_by)


@dataclass(frozen=True, eq=False)
class InLight:
    """Places seen in the light of a ``scan``: those of a line share the arm's error. They are told by its means."""

    row: int
    found: FoundMap
    system: Alignment
    reading: HitSet
    kit: Kit
    scan: int

    @cached_property
    def own_u(self) -> Array:
        """The lines of a place are taken for one, which errs as the arm does."""
        return np.sqrt(self._light_mm**2 / self.found.places.counts + self.reading.u_hit_mm**2)

    @property
    def own_u_of_mean(self) -> float:
        """The arm's, as if one line told all."""
        return self.reading.u_hit_mm

    @property
    def _light_mm(self) -> float:
        lights = [self.kit.calibrations[c].light for c in set(self.reading.calibrations.tolist())]
        return max(light.u_point_mm for light in lights if light is not None)

    def hits(self, some: Indices) -> RowHits:
        places, system = self.found.places.of(some), self.system
        world = system.part_from_world.inverse().points(places.points) / system.scale
        return RowHits.of_light(self.row, GivenPoints(world, places.lines), self.reading, self.kit, key_prefix(self.scan))

    def beside(self, some: Indices) -> dict[Source, Array]:
        return {}
