"""Symmetry: a middle plane, an axis or a center between two planes about a datum's middle plane or axis."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from ...alignment import Alignment
from ...deriving.constructions import NEARLY_PARALLEL
from ...errors import DeriveError
from ...features import axis_of, plane_of
from ...frames import Array
from ..results import FoundFeature
from ..toleranced.base import KEPT, Member, ToDatumRecipe, Zone, whole_of
from ..toleranced.place import around, plane_or_axis, points_in


class SymmetryRecipe(ToDatumRecipe):
    """``to_datum``: a plane, mostly a middle plane, or an axis."""

    kind: Literal["symmetry"] = "symmetry"

    def member(self, row: int, found: FoundFeature) -> Member:
        return whole_of(row, found)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        datum = self.against(member, found)
        if datum.feature is None:
            raise DeriveError(f"{datum.name} is no feature.", KEPT, "Choose another datum.")
        leans = _lean(member.found.shape, datum.feature.shape)
        if leans > NEARLY_PARALLEL:
            words = f"{member.found.name} is {np.degrees(leans):.1f}° from parallel to {datum.name}"
            raise DeriveError(f"{words}, so it is nowhere about its middle.", KEPT, "Choose another datum.")
        off = plane_or_axis(datum.feature, datum.name)
        return around(off, (datum.feature,), system, points_in(member, system))


def _lean(shape: Any, datum: Any) -> float:
    """How far (rad) a plane, or what has an axis, leans from a datum plane or axis; 0 of what has a center only."""
    ways = [_way(each) for each in (shape, datum)]
    if any(way is None for way in ways):
        return 0.0
    (one_flat, one), (other_flat, other) = ways  # type: ignore[misc]
    across = float(np.arccos(min(abs(float(one @ other)), 1.0)))
    return across if one_flat == other_flat else np.pi / 2 - across


def _way(shape: Any) -> tuple[bool, Array] | None:
    """Whether it is a plane, and its normal or axis; None of what has a center."""
    if (axis := axis_of(shape)) is not None:
        return False, axis.direction
    plane = plane_of(shape)
    return (True, plane.normal) if plane is not None and plane is shape else None


KIND = SymmetryRecipe
