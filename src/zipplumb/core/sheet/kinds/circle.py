"""A circle, in a plane."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredCircle
from ...shapes import Circle
from ..base import Internal
from ..bases.measured import RoundCriterion, RoundRecipe
from ..bases.rims import RimRecipe
from ..quantities import Quantity, coordinates, form, size


class CircleRecipe(RimRecipe, RoundRecipe):
    kind: Literal["circle"] = "circle"
    fits = "circle"
    practice_hits = 7
    shape_type = Circle
    plot = "round"
    criterion: RoundCriterion = "gaussian"
    nominal: StoredCircle | None = None
    seen_at: Annotated[StoredCircle | None, Internal()] = None
    hits: Annotated[int, Field(ge=3, le=10_000)] = 7

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (size("diameter", "radius", nominal, 2), *coordinates(nominal), form("roundness"))


KIND = CircleRecipe
