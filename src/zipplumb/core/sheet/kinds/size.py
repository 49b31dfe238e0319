"""Size of something round, as the drawing has it (ISO 14405-1:2016, from memory): of the whole, between two points, or with
the envelope requirement, by which the two-point sizes keep the limit of least material and what goes in, or over, that of
most."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...deriving import Drawing
from ...deriving.drawing import segment
from ...errors import DeriveError
from ...features import axis_line, axis_of, own_direction, radius_of
from ...frames import Array
from ...tolerances.drawn import drawn_extreme
from ...tolerances.local_sizes import MOST, two_point_sizes
from ...uncertainty import Source, Uncertainty
from ...units import Unit
from ..base import Asked, FeatureRef, Internal
from ..judged import JudgedRecipe, Judgement
from ..judging import Number, decided, in_system, told_in
from ..quantities import Quantity
from ..results import Characteristic, FoundFeature
from ..told import Sure
from ..toleranced.base import KEPT, rank
from ..toleranced.material import mating_by

Deviation = Annotated[float, Field(ge=-1000, le=1000)]
Limits = tuple[float | None, float | None]


@dataclass(frozen=True)
class SizePart:
    """One number of a size: how it is called, by how much it is more than the fitted diameter, and by which of the limits it is
    judged. ``own_mm``, ``U_mm``: its standard and expanded uncertainty by the hits that it rests on; ``fitted``: the fitted
    diameter's comes beside."""

    key: str
    more: float
    limits: Limits
    own_mm: float = 0.0
    U_mm: float = 0.0
    fitted: bool = True
    pair: tuple[int, int] | None = None


LEAST, GREATEST = ("least two-point size", -1.0), ("greatest two-point size", 1.0)


class SizeRecipe(JudgedRecipe):
    """``by``: which size. ``lower_mm``, ``upper_mm``: limits of the deviation from the nominal; left out, those that the
    feature's own row asks of its diameter."""

    role = "tolerance"
    kind: Literal["size"] = "size"
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=60)]
    by: Literal["envelope", "two_point", "gaussian", "inscribed", "circumscribed"] = "envelope"
    lower_mm: Deviation | None = None
    upper_mm: Deviation | None = None
    asked: Annotated[tuple[Asked, ...], Internal(), Field(max_length=0)] = ()

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return (("size", "mm"),)

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        return {"kind": cls.key(), "of": list(of)} if len(of) == 1 else None

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if len(set(self.of)) < len(self.of):
            raise DeriveError("A feature is named twice.", KEPT, "Name each once.")
        if self.lower_mm is not None and self.upper_mm is not None and self.lower_mm > self.upper_mm:
            raise DeriveError("The lower limit is above the upper one.", KEPT, "Exchange them.")
        each = [judged for i in self.of for judged in self._of(i, found[i], system)]
        first, draw = min(each, key=lambda one: rank(one[0]))
        names = [replace(c, key=f"of_{k}") for k, (c, _) in enumerate(each, 1)] if len(each) > 1 else []
        return Judgement((replace(first, of=""), *names), draw, f"{first.of} is the worst." if len(each) > 1 else "")

    def _of(self, row: int, found: FoundFeature, system: Alignment | None) -> list[tuple[Characteristic, Drawing]]:
        nominal = radius_of(found.nominal) if found.nominal is not None else None
        if found.feature is None or not radius_of(found.shape) or not nominal:
            raise DeriveError(f"{found.name} has no diameter, or no nominal one.", KEPT, "Choose a bore, a boss or a ball.")
        lower, upper = found.size_limits or (None, None)
        lower = lower if self.lower_mm is None else self.lower_mm
        upper = upper if self.upper_mm is None else self.upper_mm
        if lower is None and upper is None:
            raise DeriveError(
                f"No limits are asked of {found.name}.", KEPT, "Type them here, or ask them of its diameter on its own row."
            )
        feature = in_system(found.feature, system)
        told_alone = replace(feature, uncertainty=feature.uncertainty.without(Source("hits", row)))
        judged = []
        for part in self._parts(found, (lower, upper)):
            rests = feature if part.fitted else told_alone
            (told,) = told_in([Number(lambda shape, more=part.more: 2 * shape.radius + more)], [rests], system)
            if part.U_mm:
                told = told.but(partial(_by_its_hits, part, row))
            limits = Asked(key="size", lower=part.limits[0], upper=part.limits[1])
            one = decided(Quantity("size", nominal=2 * nominal), limits, told, "done")
            judged.append((replace(one, of=f"{found.name}, {part.key}"), _drawn(found, part, system)))
        return judged

    def _parts(self, found: FoundFeature, limits: Limits) -> list[SizePart]:
        """The numbers that this size has. Raises DeriveError where its hits do not tell them."""
        if self.by == "gaussian":
            return [SizePart("least squares", 0.0, limits)]
        bore = found.air < 0
        if self.by == "envelope":
            goes = self._mates(found, "inscribed" if bore else "circumscribed")
            (end,) = self._two_point(found, GREATEST if bore else LEAST)
            if bore:
                return [replace(goes, limits=(limits[0], None)), replace(end, limits=(None, limits[1]))]
            return [replace(goes, limits=(None, limits[1])), replace(end, limits=(limits[0], None))]
        if self.by == "two_point":
            low, high = self._two_point(found, LEAST, GREATEST)
            return [replace(low, limits=(limits[0], None)), replace(high, limits=(None, limits[1]))]
        return [replace(self._mates(found, self.by), limits=limits)]

    def _mates(self, found: FoundFeature, criterion: str) -> SizePart:
        words = {"inscribed": "largest that goes in", "circumscribed": "smallest that goes over"}
        mates = mating_by(found, criterion)
        return SizePart(words[criterion], mates.more_mm, (None, None), mates.own_mm, mates.U_mm, fitted=not mates.U_mm)

    def _two_point(self, found: FoundFeature, *ends: tuple[str, float]) -> list[SizePart]:
        """The least, the greatest, or both."""
        if found.fit is None or found.contacts is None:
            raise DeriveError(f"{found.name} is not touched itself.", KEPT, "Choose a feature that is measured.")
        if len(found.contacts) > MOST:
            raise DeriveError(
                f"{found.name} has more than {MOST} hits, among which no pairs are looked for.", KEPT, "Choose another size."
            )
        shape = found.shape
        at, axis = (axis_line(shape).point, own_direction(shape)) if axis_of(shape) is not None else _flat(found)
        sizes, pairs = two_point_sizes(found.touched, at, axis)
        if not len(sizes):
            raise DeriveError(
                f"No two hits of {found.name} lie across from one another.", KEPT,
                "Add hits opposite those that are there, at the same height.",
            )  # fmt: skip
        read, still = sizes - 2 * shape.radius, np.empty((len(sizes), 0))
        parts = []
        for words, sense in ends:
            k = int(np.argmax(sense * sizes))
            drawn = drawn_extreme(found.calm_share * sense * read, found.u_hit_mm, still, "largest", sense * read, pairs=pairs)
            pair = (int(pairs[k, 0]), int(pairs[k, 1]))
            more = float(sizes[k]) - 2 * shape.radius
            parts.append(SizePart(words, more, (None, None), drawn.own_mm, drawn.U_mm, False, pair))
        return parts


def _by_its_hits(part: SizePart, row: int, sure: Sure) -> dict[str, Any]:
    """With what its hits do to it: its U is that of both, where the hits' errors draw it to one side."""
    own = Uncertainty(1, {Source("hits", row): np.array([[part.own_mm]])})
    return {"uncertainty": sure.uncertainty.beside(own), "near": float(np.hypot(part.U_mm, sure.uncertainty.U()))}


def _flat(found: FoundFeature) -> tuple[Array, Array]:
    """The middle and the normal of a circle. Raises DeriveError for a ball."""
    normal = getattr(found.shape, "normal", None)
    if normal is None:
        raise DeriveError(f"{found.name} is a ball, which has no axis.", KEPT, "Choose another size for it.")
    return found.shape.center, normal


def _drawn(found: FoundFeature, part: SizePart, system: Alignment | None) -> Drawing:
    if part.pair is None:
        return Drawing()
    ends = found.touched[list(part.pair)]
    return segment(*(ends if system is None else system.points(ends)))


KIND = SizeRecipe
