"""A sphere."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredSphere
from ...shapes import Sphere
from ..base import Internal
from ..bases.measured import RoundCriterion, RoundRecipe
from ..bases.seen import SeenRecipe
from ..quantities import Quantity, coordinates, form, size


class SphereRecipe(SeenRecipe, RoundRecipe):
    kind: Literal["sphere"] = "sphere"
    fits = "sphere"
    practice_hits = 9
    shape_type = Sphere
    criterion: RoundCriterion = "gaussian"
    nominal: StoredSphere | None = None
    seen_at: Annotated[StoredSphere | None, Internal()] = None
    hits: Annotated[int, Field(ge=4, le=10_000)] = 9

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (size("diameter", "radius", nominal, 2), *coordinates(nominal), form("form"))


KIND = SphereRecipe
