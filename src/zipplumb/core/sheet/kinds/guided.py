"""Guided points: known places measured one by one; from the third on there is an alignment, and it grows better with each."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment, align_holds
from ...alignment.causes import likely_cause
from ...features import center_point, plane_of, point_of
from ..base import FeatureRef, Length
from ..bases.systems import LEAST_U_MM, ActualFeature, SettledRecipe, SystemInputs

FEWEST = 3


class GuidedRecipe(SettledRecipe):
    """It rests on those that are measured so far. ``zone_mm``: how far from its nominal each may lie."""

    kind: Literal["guided"] = "guided"
    so_far = True
    fewest = FEWEST
    points: Annotated[tuple[FeatureRef, ...], Field(min_length=FEWEST)]
    zone_mm: Length = 0.5

    @property
    def zone(self) -> float | None:
        return self.zone_mm

    def solve(self, given: SystemInputs) -> Alignment:
        there = [given[i] for i in self.points if i in given.features]
        # all weigh alike, as they are judged by one zone: two that were exchanged then leave the others where they are
        u_mm = max(f.u_mm for f in there)
        found = align_holds([f.hold(f.own_directions, max(u_mm, LEAST_U_MM)) for f in there], near=self.near)
        return found.doubted(_cause(there, self.zone_mm))


def _cause(there: list[ActualFeature], zone_mm: float) -> str:
    """The cause of misfit among the rows that stand for a point of the nominal: with the tip on it, or as a center."""
    centers = [f for f in there if point_of(f.feature.shape) is not None]
    names = [f.name for f in centers]
    nominal = [f.nominal.point if plane_of(f.nominal) is not None else center_point(f.nominal) for f in centers]
    actual = [center_point(f.feature.shape) for f in centers]
    off = max([f.tip_mm for f in centers], default=0.0)
    return likely_cause(names, np.array(nominal), np.array(actual), max(zone_mm, 2 * off)) if centers else ""


KIND = GuidedRecipe
