"""The base of the orientation tolerances: a zone at an angle to a datum, wherever it lies (ISO 1101)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...alignment import Alignment
from ...errors import DeriveError
from ...features import axis_of, direction_of, own_direction, plane_of
from ...frames import Array, angle_between
from ...tolerances.zones import least_slab_across, least_slab_at, length_at, spread, stands_like
from ..base import FeatureRef
from ..datums import Datum
from ..results import FoundFeature
from .base import KEPT, Member, ToDatumRecipe, Zone, whole_of
from .material import ConditionedRecipe
from .place import there

SQUARE, RIGHT_RAD = np.pi / 2, 1e-9
BY_FAR_RAD = np.radians(15)  # no zone of a drawing is so wide


class OrientationRecipe(ConditionedRecipe, ToDatumRecipe):
    """``to_datum``: a plane or an axis; ``second``: what turns the zone about it, so that it has the nominal's direction."""

    second: FeatureRef | None = None

    @classmethod
    def on(cls, of: Sequence[int], datums: Sequence[Sequence[int]]) -> dict[str, Any]:
        if len(datums) != 2 or len(datums[1]) != 1:
            return super().on(of, datums)
        return {**super().on(of, datums[:1]), "second": datums[1][0]}

    @property
    def in_order(self) -> tuple[tuple[int, ...], ...]:
        return ((self.to_datum,),) if self.second is None else ((self.to_datum,), (self.second,))

    @property
    def rests_on(self) -> tuple[Datum, ...]:
        return () if self.second is None else (Datum(features=(self.to_datum,)), Datum(features=(self.second,)))

    def member(self, row: int, found: FoundFeature) -> Member:
        if axis_of(found.shape) is None and plane_of(found.shape) is None:
            raise DeriveError(f"{found.name} has no direction.", KEPT, "Choose a plane, or what has an axis.")
        return whole_of(row, found)

    def angle(self, alike: bool) -> float:
        """Between the directions of both, normal or axis, 0 to π/2; ``alike``: both are planes, or both are axes."""
        raise NotImplementedError

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        datum = self.against(member, found)
        if datum.feature is None or direction_of(datum.shape) is None:
            raise DeriveError(f"{datum.name} has no direction, so it is no datum for this.", KEPT, "Choose a plane or an axis.")
        is_plane = plane_of(member.found.shape) is not None
        angle = self.angle(is_plane == (plane_of(datum.shape) is not None))
        stands = angle_between(own_direction(member.found.shape), own_direction(datum.shape))
        if abs(stands - angle) > BY_FAR_RAD:
            raise DeriveError(
                f"{member.name} stands at {np.degrees(stands):.0f}° to {datum.name} by their directions, not at "
                f"{np.degrees(angle):.0f}°.", KEPT, "Choose another tolerance, or another datum.",
            )  # fmt: skip
        if self.second is not None:
            return self.with_bonus(self._turned_by_both(member, there(system)), member, found)
        near = own_direction(member.found.shape if system is None else system.shape(member.found.shape))

        def surface(points: Array, shape: Any) -> float:
            axis = own_direction(shape)
            if angle < RIGHT_RAD:
                return spread(points, axis)
            if SQUARE - angle < RIGHT_RAD:
                return least_slab_across(points, axis)
            return least_slab_at(points, axis, angle, near)

        def read(points: Array, shape: Any) -> Array:
            return np.asarray(points @ stands_like(near, own_direction(shape), angle))

        def ends(points: Array, shape: Any) -> float:
            return length_at(points, own_direction(shape), angle)

        def leans(points: Array, shape: Any) -> Array:
            """The component of the axis across the datum's direction, or along it where it should stand at right angles to
            that."""
            axis, along = own_direction(shape), points[-1] - points[0]
            part = (along @ axis) * axis
            return np.asarray(along - part if angle < RIGHT_RAD else part)

        told = leans if min(angle, SQUARE - angle) < RIGHT_RAD else None
        of_axis = Zone(ends, (datum.feature,), system, told)
        zone = Zone(surface, (datum.feature,), system, signed=read) if is_plane else of_axis
        return self.with_bonus(zone, member, found)

    def _turned_by_both(self, member: Member, system: Alignment) -> Zone:
        """The zone has the nominal's direction in the system of both datums, and stands anywhere."""
        if member.found.nominal is None:
            raise DeriveError(f"{member.name} has no nominal.", KEPT, "Give it one, so that it is known how it should stand.")
        way = own_direction(member.found.nominal)

        def across(points: Array) -> Array:
            along = points[-1] - points[0]
            return np.asarray(along - (along @ way) * way)

        if plane_of(member.found.shape) is not None:
            return Zone(lambda points: spread(points, way), (), system, signed=lambda points: np.asarray(points @ way))
        return Zone(lambda points: float(np.linalg.norm(across(points))), (), system, across)
