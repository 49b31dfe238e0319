"""Straightness of a line that was touched: two parallel lines in the plane in which it was."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from ...alignment import Alignment
from ...features import Feature
from ...frames import Array, perpendicular_pair
from ...shapes import Line
from ...tolerances.zones import least_slab_across
from ..results import FoundFeature
from ..toleranced.base import Member, Touched
from ..toleranced.form import FormRecipe


class StraightnessRecipe(FormRecipe):
    kind: Literal["straightness"] = "straightness"
    fits = "line"
    for_types = (Line,)
    for_words = "a line that was touched"

    def touched(self, row: int, found: FoundFeature) -> Member:
        """Every place off the line by what it leaves, in one plane with it."""
        assert found.feature is not None and found.contacts is not None and found.residuals is not None
        aside = perpendicular_pair(found.shape.direction)[0]
        places = found.contacts + found.residuals[:, None] * aside
        feature = Feature(found.name, Touched(places), found.feature.local)
        return Member(found.name, found, feature, (row, found.u_hit_mm), found.contacts)

    def signed(self, member: Member, system: Alignment | None) -> Callable[[Array], Array]:
        return lambda points: np.zeros(len(points))  # its hits as if they lay on the line

    def least(self, points: Array) -> float:
        normal = np.linalg.svd(points - points.mean(axis=0))[2][-1]
        return least_slab_across(points, normal)


KIND = StraightnessRecipe
