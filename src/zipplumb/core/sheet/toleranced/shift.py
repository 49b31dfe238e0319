"""Datums with clearance in their gauge: the part is moved in what they leave free, until the whole comes to lie the best.

At a maximum (least) material boundary the clearance is by how far the datum's size is from that limit (ISO 2692, ISO 5459;
from memory).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from ...alignment import Alignment
from ...alignment.hold import touches_of
from ...errors import DeriveError
from ...features import own_direction
from ...frames import Array, Motion, cross
from ...kernels import rotation
from ...tolerances.mobility import Clearance, Need, OffPlaces, Stepped, best_motion, left_free, moved, rows_of
from ...uncertainty import Source, Uncertainty, exact
from ...units import mm
from ..bases.systems import ActualFeature, SystemInputs
from ..datums import levels_of
from ..judged import Judgement
from ..judging import Number, in_system, judged_anew, told_in
from ..results import Characteristic, FoundFeature
from ..told import Sure, Told
from .base import KEPT, SHOWN_MM, Member, whole_of
from .material import bonus_of
from .place import InDatumsRecipe, ToleranceDatum, points_in, there

LENGTH_MM, SHOWN_RAD = 100.0, 1e-7
TURNS = 12  # from which a part that nothing keeps from turning is laid


@dataclass(frozen=True, eq=False)
class Whole:
    """All members of a tolerance, and what their datums leave: the motions that are free, and the clearances that bound them,
    each also as a number with its uncertainty."""

    needs: tuple[Need, ...]
    free: Array
    clearances: tuple[Clearance, ...]
    rooms: tuple[Told, ...]

    def best(self, wider: int = -1, by_mm: float = 0.0) -> Array:
        """The motion (6,) after which the worst needs the least; with one clearance wider by so much."""
        changed = [replace(c, radius_mm=max(c.radius_mm + by_mm * (k == wider), 0.0)) for k, c in enumerate(self.clearances)]
        return best_motion(self.needs, self.free, changed)

    def least(self, motion: Array) -> float:
        return max(need(motion) for need in self.needs)

    @property
    def uncertainty(self) -> Uncertainty:
        """Of the zone that is needed, by what is uncertain of the clearances: by central differences over each one's own."""
        total = exact(1)
        for k, room in enumerate(self.rooms):
            step = room.uncertainty.u()
            if step > 0:
                wider, narrower = (self.least(self.best(k, sense * step)) for sense in (1.0, -1.0))
                slope = max(narrower - wider, 0.0) / (2 * step)
                total = total + room.uncertainty.through(np.array([[-slope]]))
        return total


class InClearanceRecipe(InDatumsRecipe):
    """In datums of which some may be at a material boundary."""

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if all(datum.boundary == "none" for datum in self.datums):
            return super().judged(row, found, system)
        system = self._loosely_laid(found, there(system))
        whole = self._whole(found, system)
        motion = whole.best()
        judged = super().judged(row, found, _after(system, motion))
        told = f"{judged.told} {_shift_words(motion)}".strip()
        room = whole.uncertainty
        return replace(judged, told=told, characteristics=tuple(_with_room(each, room) for each in judged.characteristics))

    def _loosely_laid(self, found: Mapping[int, FoundFeature], system: Alignment) -> Alignment:
        """The system moved in what its datums leave loose, so that the members lie nearest to their places."""
        loose = np.array([each.motion for each in system.ledger.loose]).reshape(-1, 6)
        members = [self.member(i, found[i]) for i in self.of]

        def off(amounts: Array) -> Array:
            lying = _carried(system, amounts @ loose)
            each = []
            for member in members:
                zone = self.zone_for(member, found, lying)
                if zone.off is not None:
                    shapes = [in_system(f, lying).shape for f in zone.others]
                    each.append(zone.off(points_in(member, lying), *shapes).ravel())
            return np.concatenate(each) if each else np.zeros(1)

        if not len(loose):
            return system
        turning = np.linalg.norm(loose[:, 3:], axis=1)
        starts = np.linspace(0, 2 * np.pi, TURNS if turning.any() else 1, endpoint=False)
        way = np.zeros(len(loose))
        way[int(np.argmax(turning))] = 1 / max(float(turning.max()), 1e-9)
        tried = [least_squares(off, start * way, method="lm", max_nfev=200) for start in starts]
        return _carried(system, min(tried, key=lambda each: each.cost).x @ loose)

    def _whole(self, found: Mapping[int, FoundFeature], system: Alignment) -> Whole:
        rows = {i for datum in self.datums for i in datum.features}
        given = SystemInputs({i: ActualFeature.of(found[i]) for i in rows}).scaled(system.scale)
        levels, clearances, rooms = [], [], []
        for datum, holds in zip(self.datums, levels_of(self.datums, given), strict=True):
            touches = touches_of(holds, system.part_from_world)
            levels.append((rows_of(touches.part, touches.directions), datum.boundary == "none"))
            if datum.boundary != "none":
                clearance, room = _clearance(datum, found, system)
                clearances.append(clearance)
                rooms.append(room)
        needs = tuple(self._need(self.member(i, found[i]), found, system) for i in self.of)
        return Whole(needs, left_free(levels, LENGTH_MM), tuple(clearances), tuple(rooms))

    def _need(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment) -> Need:
        """How large a zone a member needs, less its bonus, after the part has moved."""
        zone = self.zone_for(member, found, system)
        points, shapes = points_in(member, system), [in_system(f, system).shape for f in zone.others]
        bonus = max(zone.bonus(*shapes), 0.0) if zone.bonus is not None else 0.0
        if len(shapes) == (zone.bonus is not None):  # nothing but what has the size, which does not move
            if zone.offset is not None and zone.off is not None:
                return OffPlaces.of(zone.off, points, bonus)
            return Stepped(lambda motion: zone.size(moved(points, motion), *shapes) - bonus)

        def need(motion: Array) -> float:
            there = _after(system, motion)
            return zone.size(points_in(member, there), *(in_system(f, there).shape for f in zone.others)) - bonus

        return Stepped(need)


def _with_room(judged: Characteristic, room: Uncertainty) -> Characteristic:
    """With what is uncertain of the clearances."""
    if not room.u() > 0 or judged.deviation is None:
        return judged

    def more(sure: Sure) -> dict[str, Any]:
        near = None if sure.near is None else float(np.hypot(sure.near, room.U()))
        return {"uncertainty": sure.uncertainty + room, "near": near}

    return judged_anew(judged, judged.told.but(more))


def _carried(system: Alignment, motion: Array) -> Alignment:
    """The system once the part has gone along a motion (6,) without end: the exponential of a twist.

    Source: K. Lynch and F. Park, "Modern Robotics" (2017), 3.3.3.
    """
    slide, turn = motion[:3], motion[3:]
    angle = float(np.linalg.norm(turn))
    shift = slide
    if angle > 0:
        across = cross(turn, slide)
        shift = slide + (1 - np.cos(angle)) / angle**2 * across + (angle - np.sin(angle)) / angle**3 * cross(turn, across)
    moved_part = Motion(Rotation.from_rotvec(turn).as_matrix(), shift)
    return replace(system, part_from_world=moved_part @ system.part_from_world)


def _after(system: Alignment, motion: Array) -> Alignment:
    """The system once the part has moved in it by a small slide and turn (6,)."""
    return replace(system, part_from_world=Motion(rotation(*motion[3:]), motion[:3]) @ system.part_from_world)


def _clearance(datum: ToleranceDatum, found: Mapping[int, FoundFeature], system: Alignment) -> tuple[Clearance, Told]:
    """How far the datum may be off, and that as a number with its uncertainty."""
    if len(datum.features) > 1:
        raise DeriveError("A datum of several features has no boundary of its own.", KEPT, "Leave its boundary out.")
    row = datum.features[0]
    member = whole_of(row, found[row])
    bonus = bonus_of(member, datum.boundary)
    (room,) = told_in([Number(lambda shape: bonus.of(shape) / 2)], [in_system(bonus.sized, system)], system)
    mating = Uncertainty(1, {Source("hits", row): np.array([[bonus.u_mm / 2]])})
    room = room.but(lambda sure: {"uncertainty": sure.uncertainty.beside(mating)})
    return Clearance(points_in(member, system), own_direction(member.found.nominal), max(room.value, 0.0)), room


def _shift_words(motion: Array) -> str:
    by = ", ".join(f"{axis} {mm(float(v), '+.4f')}" for axis, v in zip("XYZ", motion[:3], strict=True) if abs(v) >= SHOWN_MM)
    turned = float(np.linalg.norm(motion[3:]))
    turn = f" and turned by {np.degrees(turned):.4f}°" if turned >= SHOWN_RAD else ""
    return f"In the clearance of its datums the part was shifted by {by or 'nothing'}{turn}."
