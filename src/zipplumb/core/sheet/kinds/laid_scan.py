"""A scan laid on the part's surfaces: all of it, by the nearest places."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...alignment.surfaces import Errors, align_surfaces
from ...errors import AlignmentError
from ...frames import Array, Motion
from ...uncertainty import Source
from ..base import CloudRef, Internal, Length, SystemRef, Vector
from ..bases.systems import SystemInputs, SystemRecipe
from ..row_hits import RowHits

KEPT = "The scan is kept."


class LaidScanRecipe(SystemRecipe):
    """From ``start`` (an alignment), or from where it was found: ``turn``, a rotation vector, and ``shift``, part from world.

    ``as_good``: so many other places were as good; ``u_mm``: how far the part's own form may be off.
    """

    kind: Literal["laid_scan"] = "laid_scan"
    rests_on_surfaces = True
    found_here = ("turn", "shift", "as_good")
    scans: Annotated[tuple[CloudRef, ...], Field(min_length=1, max_length=20)]
    start: SystemRef | None = None
    turn: Annotated[Vector | None, Internal()] = None
    shift: Annotated[Vector | None, Internal()] = None
    as_good: Annotated[Annotated[int, Field(ge=0, le=100)], Internal()] = 0
    u_mm: Length = 0.05

    def solve(self, given: SystemInputs) -> Alignment:
        if given.surfaces is None:
            raise AlignmentError("The part has no CAD surfaces.", KEPT, "Bring in its CAD, or hold it by features.")
        each = [given.clouds[scan] for scan in self.scans if scan in given.clouds]
        if not each:
            raise AlignmentError("Nothing of the scan faces a known way.", KEPT, "Let all of it count, and scan more slowly.")
        points = np.vstack([hits.centers for hits in each])
        doubt = "" if not self.as_good else f"{self.as_good} other place{'s fit' if self.as_good > 1 else ' fits'} it as well."
        nearest, start, errors = given.surfaces.nearest, self._start(given), _errors(each, self.u_mm)
        return align_surfaces(points, nearest, start, self.u_mm, whose=given.row, errors=errors, doubt=doubt)

    def _start(self, given: SystemInputs) -> Motion:
        if self.start is not None:
            return given.systems[self.start].part_from_world
        if self.turn is None or self.shift is None:
            raise AlignmentError("Nobody knows yet where the part lies.", KEPT, "Start from an alignment, or let it be found.")
        return Motion.from_rotvec(self.turn, self.shift)


def _errors(each: list[RowHits], form_mm: float) -> Errors:
    """Of all points: what moves those of a scan together moves the others' not, unless both share it."""
    together: dict[Source, Array] = {}
    count, begin = sum(len(hits.keys) for hits in each), 0
    for hits in each:
        mine = slice(begin, begin := begin + len(hits.keys))
        for source, moved in hits.shifts().items():
            whole = together.setdefault(source, np.zeros((count, 3, moved.shape[2])))
            whole[mine] = moved
    return Errors(max(hits.u_hit_mm for hits in each), together, form_mm)


KIND = LaidScanRecipe
