"""Material conditions: by how much a zone grows with how far the size is from its material limit (ISO 2692, from memory)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...errors import DeriveError, PlumbError
from ...features import Feature
from ...fitting import Meant, fit
from ...frames import Array
from ...shapes import Circle
from ...tolerances.drawn import drawn_extreme
from ...units import mm
from ..judging import in_system
from ..results import FoundFeature
from ..scatter import surely_worse
from .base import KEPT, Member, ToleranceRecipe, Zone

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
    """The bonus of a zone: how far the mating size is from the condition's limit of material (ISO 2692, memory).

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
    mates = mating_by(found, "inscribed" if from_least else "circumscribed")
    limit, other = (2 * nominal + limits[0 if first else 1] for first in (from_least, not from_least))

    def size(shape: Any) -> float:
        return 2 * float(shape.radius) + mates.more_mm

    return Bonus(
        found.feature, lambda s: grows * (size(s) - limit), grows, lambda s: max(grows * (other - size(s)), 0.0), mates.own_mm
    )


@dataclass(frozen=True)
class Mating:
    """``more_mm``: by how much the mating diameter is larger than the fitted one; ``own_mm``, ``U_mm``: its standard and its
    expanded uncertainty by its hits, in the place of what these do to the fitted one; 0 where it is that."""

    more_mm: float = 0.0
    own_mm: float = 0.0
    U_mm: float = 0.0


def mating_by(found: FoundFeature, criterion: str) -> Mating:
    """The diameter that goes in, or over, what was touched, against the fitted one.

    Nothing of what shows no form beyond what its hits do by themselves, of which the extremes would always tell a smaller bore
    and a larger boss than there is. What errors of the hits do to it is bounded by what they do to the extreme hit about the
    fitted axis, which the mating one follows in part.
    """
    shape, fitted = found.shape, found.fit
    if fitted is None or fitted.spare < 1 or found.contacts is None or found.residuals is None:
        return Mating()
    if not surely_worse(found.u_hit_mm, fitted.sigma, fitted.spare):
        return Mating()
    fixed = {"normal": shape.normal} if isinstance(shape, Circle) else {}
    try:
        mating = fit(fitted.kind, found.touched, criterion=criterion, fixed=fixed, meant=Meant.near(shape))
    except PlumbError:
        return Mating()
    outward = found.air * found.residuals * (1.0 if criterion == "circumscribed" else -1.0)
    still = np.empty((len(outward), 0))
    drawn = drawn_extreme(found.calm_share * outward, found.u_hit_mm, still, "largest", outward)
    return Mating(2 * float(mating.shape.radius - shape.radius), 2 * drawn.own_mm, 2 * drawn.U_mm)


class ConditionedRecipe(ToleranceRecipe):
    """``condition``: with maximum (least) material the zone grows by how far the mating size is from that limit."""

    condition: Condition = "none"
    zone_mm: Annotated[float, Field(ge=0, lt=1e9)]

    @model_validator(mode="after")
    def _zone_or_bonus(self):
        if self.zone_mm == 0 and self.condition == "none":
            raise ValueError("a zone of 0 needs a material condition, whose bonus is then all there is")
        return self

    @classmethod
    def with_material(cls, raw: dict[str, Any], condition: str, boundaries: Sequence[str]) -> dict[str, Any]:
        return {**super().with_material(raw, "none", boundaries), "condition": condition}

    @property
    def material(self) -> tuple[str, tuple[str, ...]]:
        return self.condition, super().material[1]

    def with_bonus(self, zone: Zone, member: Member, found: Mapping[int, FoundFeature]) -> Zone:
        """The zone, larger by the bonus where there is a condition. Raises DeriveError where it has no size for one."""
        if self.condition == "none":
            return zone
        bonus = bonus_of(member, self.condition)
        room = bonus.room(in_system(bonus.sized, zone.system).shape)
        what = "larger" if bonus.grows > 0 else "smaller"

        def rework(points: Array, over: float) -> str:
            if over <= room:
                return f"It would be in if {member.name} were {mm(over, '.4f')} {what}, which its limits allow."
            return (
                f"Its limits allow {member.name} to be {mm(room, '.4f')} {what}, which is {mm(over - room, '.4f')} too little."
            )

        row = next(i for i in self.of if found[i] is member.found)
        return replace(
            zone, others=(*zone.others, bonus.sized), size=_but_last(zone.size), offset=zone.offset and _but_last(zone.offset),
            off=zone.off and _but_last(zone.off), bonus=lambda *shapes: bonus.of(shapes[-1]), bonus_noise=(row, bonus.u_mm),
            rework=rework,
        )  # fmt: skip


def _but_last(of: Callable[..., Any]) -> Callable[..., Any]:
    """Wrap a function so that it ignores the last shape that it is given, the one that has the size."""
    return lambda points, *shapes: of(points, *shapes[:-1])
