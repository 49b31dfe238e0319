"""Position: of a center, an axis, a plane or a middle plane, from where it should be in a datum system (ISO 5458, ISO 1101).

A datum at its maximum material boundary leaves the part some clearance, in which it is moved so that the whole pattern comes
to lie the best. With the maximum (least) material condition the zone grows by how far the feature's size is from its maximum
(least) material limit (ISO 2692, from memory). The size is that of the least-squares shape.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ...alignment import Alignment
from ...alignment.hold import LETTERS, touches_of
from ...errors import DeriveError
from ...features import axis_line, axis_of, center_point, own_direction, plane_of
from ...frames import Array, Motion
from ...kernels import rotation
from ...shapes import Point, Sphere
from ...tolerances.mobility import Clearance, best_motion, left_free, moved, rows_of
from ...tolerances.zones import about_line
from ...units import mm
from ..datums import levels_of
from ..judged import Judgement
from ..judging import in_system
from ..results import FoundFeature
from ..systems import ActualFeature, SystemInputs
from ..toleranced.base import KEPT, SHOWN_MM, Member, Zone, whole_of
from ..toleranced.material import ConditionedRecipe, bonus_of
from ..toleranced.place import (
    BOTH_SIDES,
    InDatumsRecipe,
    Off,
    ToleranceDatum,
    around,
    flat_off,
    points_in,
    there,
)

LENGTH_MM, SHOWN_RAD = 100.0, 1e-7


class PositionRecipe(ConditionedRecipe, InDatumsRecipe):
    """``across``: a round zone, or two planes square to one axis of the system."""

    kind: Literal["position"] = "position"
    round_zone = True
    across: Literal["round", "X", "Y", "Z"] = "round"

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        system = there(system)
        if all(datum.boundary == "none" for datum in self.datums):
            return super().judged(row, found, system)
        motion = self._shift(found, system)
        shifted = Motion(rotation(*motion[3:]), motion[:3]) @ system.part_from_world
        judged = super().judged(row, found, replace(system, part_from_world=shifted))
        return replace(judged, told=f"{judged.told} {_shift_words(motion)}".strip())

    def _shift(self, found: Mapping[int, FoundFeature], system: Alignment) -> Array:
        """By how much the part moves in what its datums leave free, so that the worst of all members is the best (6,)."""
        rows = {i for datum in self.datums for i in datum.features}
        given = SystemInputs({i: ActualFeature.of(found[i]) for i in rows})
        levels, clearances = [], []
        for datum, holds in zip(self.datums, levels_of(self.datums, given), strict=True):
            touches = touches_of(holds, system.part_from_world)
            levels.append((rows_of(touches.part, touches.directions), datum.boundary == "none"))
            if datum.boundary != "none":
                clearances.append(self._clearance(datum, found, system))
        return best_motion([self._need(i, found[i], system) for i in self.of], left_free(levels, LENGTH_MM), clearances)

    def _clearance(self, datum: ToleranceDatum, found: Mapping[int, FoundFeature], system: Alignment) -> Clearance:
        if len(datum.features) > 1:
            raise DeriveError("A datum of several features has no boundary of its own.", KEPT, "Leave its boundary out.")
        member = whole_of(datum.features[0], found[datum.features[0]])
        bonus = bonus_of(member, "maximum")
        room = bonus.of(in_system(bonus.sized, system).shape)
        places = points_in(member, system)
        return Clearance(places, own_direction(member.found.nominal), max(room, 0.0) / 2)

    def _need(self, row: int, found: FoundFeature, system: Alignment) -> Callable[[Array], float]:
        member = self.member(row, found)
        points, off = points_in(member, system), self._off(self.nominal(member))
        bonus = 0.0
        if self.condition != "none":
            more = bonus_of(member, self.condition)
            bonus = max(more.of(in_system(more.sized, system).shape), 0.0)
        return lambda motion: BOTH_SIDES * float(np.linalg.norm(off(moved(points, motion)), axis=1).max()) - bonus

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


def _shift_words(motion: Array) -> str:
    by = ", ".join(f"{axis} {mm(float(v), '+.4f')}" for axis, v in zip("XYZ", motion[:3], strict=True) if abs(v) >= SHOWN_MM)
    turned = float(np.linalg.norm(motion[3:]))
    turn = f" and turned by {np.degrees(turned):.4f}°" if turned >= SHOWN_RAD else ""
    return f"In the clearance of its datums the part was shifted by {by or 'nothing'}{turn}."


KIND = PositionRecipe
