"""The two nodes of a scan: its points and edges, and which of them are other rows', by the CAD as the part lies."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from ..cloud.working import CloudWork
from ..fingerprints import fingerprint
from ..readings import HitSet
from .base import Needed
from .bases.scans import ScanRecipe
from .clouds import AskedCloud, AskedGiven, FoundCloud
from .given import Kit, SheetRow, StationPose
from .graph import Failed, Name, Node
from .results import FoundSystem, RowResult
from .stations import untied_words

UNCALIBRATED = "It was scanned with a head that is not calibrated as a scanner. Calibrate it on Kit."
UNPLACED = "The alignment in which its points are given to rows is not there yet."


def taken_from(row: SheetRow, needed: Needed) -> Name:
    """The node that a row takes points from: of a scan its points, or, where the CAD tells which are its own, those given."""
    return ("given", needed.id) if needed.what == "cloud" and row.recipe.takes_by_cad else needed


@dataclass(frozen=True, eq=False)
class ScanNodes:
    """``rows``: all of the sheet; ``calibrated``: names what the calibrations of a scan say; ``surfaces``: names the part's."""

    rows: tuple[SheetRow, ...]
    kit: Kit
    surfaces: str

    def of(self, row: SheetRow, reading: HitSet | None, calibrated: str) -> dict[Name, Node]:
        recipe = cast(ScanRecipe, row.recipe)
        read: tuple[str, tuple[Name, ...]] = ("", ())
        if reading is not None:
            read = f"{reading.digest}{calibrated}", reading.station_names
        own = fingerprint("cloud", repr(recipe.what_counts), read[0], str(row.finished))
        wanted = self._wanted_of(row)
        given = fingerprint("given", repr(recipe.whose), self.surfaces, repr(sorted(wanted.items())))
        cloud: Name = ("cloud", row.id)
        return {
            cloud: Node(own, read[1], self._cloud, (row, reading), heavy=True),
            ("given", row.id): Node(given, (cloud, *row.needs), _given, (row, wanted), heavy=True),
            ("verdict", row.id): Node(row.digest, (cloud, ("given", row.id)), _result, row),
        }

    def _wanted_of(self, scan: SheetRow) -> dict[int, int]:
        """The faces of the CAD, by the rows that take the points on them from a scan."""
        takes = Needed("cloud", scan.id)
        rows = (row for row in self.rows if takes in row.needs)
        return {row.id: row.recipe.cad_face for row in rows if row.recipe.takes_by_cad and row.recipe.cad_face is not None}

    def _cloud(self, of: tuple[SheetRow, HitSet | None], needed: Mapping[Name, Any]) -> FoundCloud | AskedCloud:
        """What is asked for of a scan, or why that is nothing."""
        row, reading = of
        lines = 0 if reading is None else int(np.count_nonzero(~reading.aside))
        if reading is None or not lines:
            return FoundCloud("todo")
        if not row.finished:
            return FoundCloud("taking", "", lines)
        if untied := untied_words(reading, needed):
            return FoundCloud("waits", untied, lines)
        if any(self.kit.calibrations[c].light is None for c in set(reading.calibrations.tolist())):
            return FoundCloud("failed", UNCALIBRATED, lines)
        return AskedCloud(row.id, lines, self.work_of(row, reading, needed))

    def work_of(self, row: SheetRow, reading: HitSet, needed: Mapping[Name, Any]) -> CloudWork:
        """How its light becomes points. ``needed``: the stations among others."""
        stations = {n[1]: s for n, s in needed.items() if isinstance(s, StationPose)}  # type: ignore[index]
        lights = {c: self.kit.calibrations[c].light for c in set(reading.calibrations.tolist())}
        return cast(ScanRecipe, row.recipe).work(
            {c: light.axis_from_scanner for c, light in lights.items() if light is not None},
            {s: pose.world_from_station for s, pose in stations.items()},
        )  # fmt: skip


def _given(of: tuple[SheetRow, dict[int, int]], needed: Mapping[Name, Any]) -> FoundCloud | AskedGiven | Failed:
    """The scan itself where nothing of it is given by the CAD."""
    row, wanted = of
    cloud = needed["cloud", row.id]
    systems = [found for n, found in needed.items() if isinstance(n, Needed) and n.what == "system"]
    if isinstance(cloud, Failed) or cloud.state != "done" or not systems:
        return cloud
    placed = next((found.alignment for found in systems if isinstance(found, FoundSystem)), None)
    if placed is None:
        return FoundCloud("waits", UNPLACED, cloud.lines)
    if not wanted:  # outlines look for themselves among the edges
        return replace(cloud, part_from_world=placed.part_from_world)
    work = cast(ScanRecipe, row.recipe).sorting(placed, wanted)
    return AskedGiven(row.id, cloud.lines, cloud, work, frozenset(wanted.values()))


def _result(row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
    found, given = needed["cloud", row.id], needed["given", row.id]
    if isinstance(found, Failed):
        found = FoundCloud("failed", found.message)
    if isinstance(given, Failed):
        given = FoundCloud("failed", given.message)
    told = given if found.state == "done" else found
    return RowResult(row.id, told.state, told.message, cloud=found)
