"""A sphere."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredSphere
from ...shapes import Sphere
from ..bases.measured import RoundCriterion, RoundRecipe
from ..quantities import Quantity, coordinates, form, size


class SphereRecipe(RoundRecipe):
    kind: Literal["sphere"] = "sphere"
    fits = "sphere"
    shape_type = Sphere
    criterion: RoundCriterion = "gaussian"
    nominal: StoredSphere | None = None
    hits: Annotated[int, Field(ge=4, le=10_000)] = 9

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (size("diameter", "radius", nominal, 2), *coordinates(nominal), form("form"))


KIND = SphereRecipe
