"""Symmetry: a middle plane, an axis or a center between two planes about a datum's middle plane or axis."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from ...alignment import Alignment
from ...errors import DeriveError
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
        off = plane_or_axis(datum.feature, datum.name)
        return around(off, (datum.feature,), system, points_in(member, system))


KIND = SymmetryRecipe
