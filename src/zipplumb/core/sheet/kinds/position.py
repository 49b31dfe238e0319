"""Position: of a center, an axis, a plane or a middle plane, from where it should be in a datum system (ISO 5458, ISO 1101).

A datum at its maximum material boundary leaves the part some clearance, in which it is moved so that the whole pattern comes
to lie the best. With the maximum (least) material condition the zone grows by how far the feature's size is from its maximum
(least) material limit (ISO 2692, from memory). The size is that which mates.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from ...alignment import Alignment
from ...alignment.hold import LETTERS
from ...errors import DeriveError
from ...features import axis_line, axis_of, center_point, plane_of
from ...frames import Array
from ...shapes import Point, Sphere
from ...tolerances.zones import about_line
from ..judged import Judgement
from ..results import FoundFeature
from ..toleranced.base import KEPT, Member, Zone, whole_of
from ..toleranced.material import ConditionedRecipe
from ..toleranced.place import (
    Off,
    around,
    flat_off,
    points_in,
    there,
)
from ..toleranced.shift import InClearanceRecipe


class PositionRecipe(ConditionedRecipe, InClearanceRecipe):
    """``across``: a round zone, or two planes square to one axis of the system."""

    kind: Literal["position"] = "position"
    round_zone = True
    across: Literal["round", "X", "Y", "Z"] = "round"

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        themselves = [found[i].name for i in self.of if any(i in group for group in self.in_order)]
        if themselves:
            raise DeriveError(f"{themselves[0]} is one of its own datums.", KEPT, "Choose other datums, or leave it out.")
        return super().judged(row, found, system)

    def member(self, row: int, found: FoundFeature) -> Member:
        return whole_of(row, found)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        system = there(system)
        off = self._off(self.nominal(member))
        return self.with_bonus(around(off, (), system, points_in(member, system)), member, found)

    def _off(self, nominal: Any) -> Off:
        if plane_of(nominal) is not None:
            return lambda points: flat_off(points, nominal.point, nominal.normal)
        at = axis_line(nominal).point if axis_of(nominal) is not None else center_point(nominal)
        if self.across != "round":
            way = LETTERS[self.across]
            return lambda points: flat_off(points, at, way)
        if isinstance(nominal, Sphere | Point):
            return lambda points: points - at
        along = axis_line(nominal).direction if axis_of(nominal) is not None else nominal.normal

        def off(points: Array) -> Array:
            return about_line(points, at, along)

        return off


KIND = PositionRecipe
