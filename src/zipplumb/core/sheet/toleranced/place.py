"""The bases of the tolerances of place and run-out: how far from where it should be, or from a datum."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...errors import DeriveError, InputError, PlumbError
from ...features import Feature, axis_line, axis_of, center_point, plane_of, point_of
from ...fitting import fit
from ...frames import Array
from ...shapes import Circle
from ...tolerances.zones import about_line
from ..datums import Datum
from ..judged import NeedsSystem
from ..measured import surely_worse
from ..results import FoundFeature
from .base import KEPT, Member, ToDatumRecipe, ToleranceRecipe, Zone, touched_places

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

    return Zone(size, others, system, offset, off, BOTH_SIDES)


def points_in(member: Member, system: Alignment | None) -> Array:
    points = member.feature.shape.points
    return np.asarray(points if system is None else system.points(points))


class ToleranceDatum(Datum):
    """``boundary``: where it is the datum at its maximum material limit, the part may shift in the clearance that is left."""

    boundary: Literal["none", "maximum"] = "none"


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


Condition = Literal["none", "maximum", "least"]


@dataclass(frozen=True, eq=False)
class Bonus:
    """``sized``: what has the size; ``of``: its shape -> mm by which the zone is larger for it, below 0 where it is beyond its
    material limit; ``grows``: +1 where a larger size gives more; ``room``: its shape -> mm by which it may still go that way
    within its limits; ``u_mm``: what the hits that the mating size rests on do to it."""

    sized: Feature
    of: Callable[[Any], float]
    grows: float
    room: Callable[[Any], float]
    u_mm: float


def bonus_of(member: Member, condition: Condition) -> Bonus:
    """By how much a zone is larger: how far the mating size is from the condition's limit of material (ISO 2692, memory).

    Raises DeriveError where it has no size, or no limits of size are asked of it.
    """
    found = member.found
    limits, nominal = found.size_limits, getattr(found.nominal, "radius", None)
    if found.feature is None or getattr(found.shape, "radius", None) is None or nominal is None:
        raise DeriveError(f"{found.name} has no size, so there is no material condition.", KEPT, "Leave the condition out.")
    if limits is None or found.side is None or not found.side.air:
        raise DeriveError(
            f"{found.name} has no limits of its diameter, so its material limits are not known.", KEPT,
            "Ask its diameter with both limits, or leave the condition out.",
        )  # fmt: skip
    bore = found.side.air < 0
    from_least = bore == (condition == "maximum")  # the bore's most material is its smallest size
    grows = 1.0 if from_least else -1.0
    mates, u_mm = mating_by(found, "inscribed" if from_least else "circumscribed")
    limit, other = (2 * nominal + limits[0 if first else 1] for first in (from_least, not from_least))

    def size(shape: Any) -> float:
        return 2 * (float(shape.radius) + mates)

    return Bonus(found.feature, lambda s: grows * (size(s) - limit), grows, lambda s: max(grows * (other - size(s)), 0.0), u_mm)


def mating_by(found: FoundFeature, criterion: str) -> tuple[float, float]:
    """By how much the radius that goes in, or over, what was touched differs from the fitted one, and what its hits do to the
    diameter: it rests on three, about evenly round. Nothing of what shows no form beyond what its hits do by themselves,
    of which the extremes would always tell a smaller bore and a larger boss than there is."""
    shape, fitted = found.shape, found.fit
    if fitted is None or fitted.spare < 1 or found.contacts is None:
        return 0.0, 0.0
    if not surely_worse(found.u_hit_mm, fitted.sigma, fitted.spare):
        return 0.0, 0.0
    fixed = {"normal": shape.normal} if isinstance(shape, Circle) else {}
    try:
        mating = fit(fitted.kind, touched_places(found), criterion=criterion, fixed=fixed)
    except PlumbError:
        return 0.0, 0.0
    return float(mating.shape.radius - shape.radius), 2 / np.sqrt(3) * found.u_hit_mm


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
