"""Coaxiality, of a center concentricity: an axis, as far as it was touched, within a cylinder about a datum's axis."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from ...alignment import Alignment
from ...errors import DeriveError
from ...features import axis_line, plane_of
from ...frames import Array
from ...tolerances.zones import about_line
from ..results import FoundFeature
from ..toleranced.base import KEPT, Member, Zone, whole_of
from ..toleranced.material import ConditionedRecipe
from ..toleranced.place import AboutAxisRecipe, around, points_in


class CoaxialityRecipe(ConditionedRecipe, AboutAxisRecipe):
    kind: Literal["coaxiality"] = "coaxiality"
    round_zone = True

    def member(self, row: int, found: FoundFeature) -> Member:
        if plane_of(found.shape) is not None:
            raise DeriveError(f"{found.name} has no axis and no center.", KEPT, "Choose something round.")
        return whole_of(row, found)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        def off(points: Array, shape: Any) -> Array:
            axis = axis_line(shape)
            return about_line(points, axis.point, axis.direction)

        zone = around(off, (self.axis(member, found),), system, points_in(member, system))
        return self.with_bonus(zone, member, found)


KIND = CoaxialityRecipe
