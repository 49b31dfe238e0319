"""The bases of the tolerances of place and run-out: how far from where it should be, or from a datum."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...errors import DeriveError, InputError
from ...features import Feature, axis_line, axis_of, center_point, plane_of, point_of
from ...frames import Array
from ...tolerances.zones import about_line
from ..datums import Datum
from ..judged import NeedsSystem
from ..quantities import of_length, turning
from ..results import FoundFeature
from .base import KEPT, Member, ToDatumRecipe, ToleranceRecipe, Zone

Off = Callable[..., Array]  # points, shapes of datums -> how each lies off the middle of the zone
Place = Callable[[Any], Array]  # of a shape in the part
BOTH_SIDES = 2.0


def around(off: Off, others: tuple[Feature, ...], system: Alignment | None, points: Array) -> Zone:
    """The zone whose middle the points lie off by; as wide on all sides as the farthest asks.

    ``points``: as they lie in the system, to know which is the farthest.
    """

    def size(touched: Array, *shapes: Any) -> float:
        return BOTH_SIDES * float(np.linalg.norm(off(touched, *shapes), axis=1).max())

    shapes = [f.shape if system is None else system.shape(f.shape) for f in others]
    farthest = int(np.argmax(np.linalg.norm(off(points, *shapes), axis=1)))

    def offset(touched: Array, *shapes: Any) -> Array:
        return BOTH_SIDES * np.asarray(off(touched, *shapes)[farthest])

    def far(touched: Array, *shapes: Any) -> Array:
        return np.asarray(np.linalg.norm(off(touched, *shapes), axis=1))

    def slopes(touched: Any) -> Array:
        """An offset from something that stands still goes with the place as it does anywhere: so exactly by its steps."""
        place = touched.points[farthest]
        here = off(place[None])[0]
        across = BOTH_SIDES * (off(place + np.eye(3)) - here).T
        return of_length(touched, BOTH_SIDES * here, across, across @ turning(place))

    return Zone(size, others, system, offset, off, BOTH_SIDES, far, about=True, slopes=None if others else slopes)


def points_in(member: Member, system: Alignment | None) -> Array:
    points = member.feature.shape.points
    return np.asarray(points if system is None else system.points(points))


class ToleranceDatum(Datum):
    """``boundary``: where it is the datum at a limit of its material, the part may shift in the clearance that is left."""

    boundary: Literal["none", "maximum", "least"] = "none"


class InDatumsRecipe(ToleranceRecipe):
    """``datums``: primary first; none: the alignment in use."""

    datums: Annotated[tuple[ToleranceDatum, ...], Field(max_length=3)] = ()

    @classmethod
    def on(cls, of: Sequence[int], datums: Sequence[Sequence[int]]) -> dict[str, Any]:
        if len(datums) > 3:
            raise InputError("A system has three datums at most.", "Nothing was planned.", "Leave the others out.")
        return {"kind": cls.key(), "of": list(of), "datums": [{"features": list(group)} for group in datums]}

    @property
    def in_order(self) -> tuple[tuple[int, ...], ...]:
        return tuple(datum.features for datum in self.datums)

    @property
    def from_outside(self) -> tuple[bool, ...]:
        return tuple(datum.laid == "outside" for datum in self.datums)

    @property
    def material(self) -> tuple[str, tuple[str, ...]]:
        return "none", tuple(datum.boundary for datum in self.datums)

    @classmethod
    def with_material(cls, raw: dict[str, Any], condition: str, boundaries: Sequence[str]) -> dict[str, Any]:
        datums = [{**datum, "boundary": each} for datum, each in zip(raw["datums"], boundaries, strict=True)]
        return {**super().with_material(raw, condition, ()), "datums": datums}

    @property
    def rests_on(self) -> tuple[Datum, ...]:
        return self.datums

    def nominal(self, member: Member) -> Any:
        if member.found.nominal is None:
            raise DeriveError(f"{member.name} has no nominal.", KEPT, "Give it one, so that it is known where it should be.")
        return member.found.nominal


def there(system: Alignment | None) -> Alignment:
    """Raises NeedsSystem where it is none."""
    if system is None:
        raise NeedsSystem("It is told from datums, or in an aligned part.")
    return system


class AboutAxisRecipe(ToDatumRecipe):
    """``to_datum``: what has an axis."""

    def axis(self, member: Member, found: Mapping[int, FoundFeature]) -> Feature:
        datum = self.against(member, found)
        if datum.feature is None or axis_of(datum.shape) is None:
            raise DeriveError(
                f"{datum.name} has no axis, so it is no datum for this.", KEPT, "Choose a bore, a boss or a line."
            )
        return datum.feature


def flat_off(points: Array, at: Array, normal: Array) -> Array:
    """How far points lie off a plane, along its normal."""
    return np.outer((points - at) @ normal, normal)


def plane_or_axis(datum: Feature, name: str) -> Off:
    """How points lie off a plane, or off an axis. Raises DeriveError."""
    if plane_of(datum.shape) is not None:
        return lambda points, shape: flat_off(points, shape.point, shape.normal)
    if axis_of(datum.shape) is not None:
        return lambda points, shape: about_line(points, axis_line(shape).point, axis_line(shape).direction)
    raise DeriveError(f"{name} is no plane and has no axis.", KEPT, "Choose a plane, a middle plane or an axis.")


def place_of(found: FoundFeature) -> Place:
    """Where a hole is: its center, or where its axis passes the nominal point's height. Raises DeriveError."""
    shape, nominal = found.shape, found.nominal
    if shape is not None and point_of(shape) is not None:
        return center_point
    axis = axis_of(nominal) if nominal is not None else None
    if found.feature is None or axis_of(shape) is None or axis is None:
        raise DeriveError(f"{found.name} has no center.", KEPT, "Choose holes, slots, balls, points, or bores with a nominal.")

    def pierced(shape: Any) -> Array:
        line = axis_line(shape)
        return np.asarray(
            line.point + ((axis.point - line.point) @ axis.direction) / (line.direction @ axis.direction) * line.direction
        )

    return pierced
