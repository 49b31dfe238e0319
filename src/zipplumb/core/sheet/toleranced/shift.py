"""Datums with clearance in their gauge: the part is moved in what they leave free, until the whole comes to lie the best.

At a maximum (least) material boundary the clearance is by how far the datum's size is from that limit (ISO 2692, ISO 5459;
from memory).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np

from ...alignment import Alignment
from ...alignment.hold import touches_of
from ...errors import DeriveError
from ...features import own_direction
from ...frames import Array, Motion
from ...kernels import rotation
from ...tolerances.mobility import Clearance, best_motion, left_free, moved, rows_of
from ...units import mm
from ..bases.systems import ActualFeature, SystemInputs
from ..datums import levels_of
from ..judged import Judgement
from ..judging import in_system
from ..results import FoundFeature
from .base import KEPT, SHOWN_MM, Member, whole_of
from .material import bonus_of
from .place import InDatumsRecipe, ToleranceDatum, points_in, there

LENGTH_MM, SHOWN_RAD = 100.0, 1e-7


class InClearanceRecipe(InDatumsRecipe):
    """In datums of which some may be at a material boundary."""

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if all(datum.boundary == "none" for datum in self.datums):
            return super().judged(row, found, system)
        system = there(system)
        motion = self._shift(found, system)
        judged = super().judged(row, found, _after(system, motion))
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
                clearances.append(_clearance(datum, found, system))
        needs = [self._need(self.member(i, found[i]), found, system) for i in self.of]
        return best_motion(needs, left_free(levels, LENGTH_MM), clearances)

    def _need(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment) -> Callable[[Array], float]:
        """How large a zone a member needs, less its bonus, after the part has moved."""
        zone = self.zone_for(member, found, system)
        points, shapes = points_in(member, system), [in_system(f, system).shape for f in zone.others]
        bonus = max(zone.bonus(*shapes), 0.0) if zone.bonus is not None else 0.0
        if len(shapes) == (zone.bonus is not None):  # nothing but what has the size, which does not move
            return lambda motion: zone.size(moved(points, motion), *shapes) - bonus

        def need(motion: Array) -> float:
            there = _after(system, motion)
            return zone.size(points_in(member, there), *(in_system(f, there).shape for f in zone.others)) - bonus

        return need


def _after(system: Alignment, motion: Array) -> Alignment:
    """The system once the part has moved in it by a small slide and turn (6,)."""
    return replace(system, part_from_world=Motion(rotation(*motion[3:]), motion[:3]) @ system.part_from_world)


def _clearance(datum: ToleranceDatum, found: Mapping[int, FoundFeature], system: Alignment) -> Clearance:
    if len(datum.features) > 1:
        raise DeriveError("A datum of several features has no boundary of its own.", KEPT, "Leave its boundary out.")
    member = whole_of(datum.features[0], found[datum.features[0]])
    bonus = bonus_of(member, datum.boundary)
    room = bonus.of(in_system(bonus.sized, system).shape)
    return Clearance(points_in(member, system), own_direction(member.found.nominal), max(room, 0.0) / 2)


def _shift_words(motion: Array) -> str:
    by = ", ".join(f"{axis} {mm(float(v), '+.4f')}" for axis, v in zip("XYZ", motion[:3], strict=True) if abs(v) >= SHOWN_MM)
    turned = float(np.linalg.norm(motion[3:]))
    turn = f" and turned by {np.degrees(turned):.4f}°" if turned >= SHOWN_RAD else ""
    return f"In the clearance of its datums the part was shifted by {by or 'nothing'}{turn}."
