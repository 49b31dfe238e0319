"""A cone: a conical seat or a taper."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredCone
from ...shapes import Cone
from ..bases.measured import EnclosedRecipe
from ..quantities import Quantity, axis_off, form, size, tilt


class ConeRecipe(EnclosedRecipe):
    kind: Literal["cone"] = "cone"
    fits = "cone"
    shape_type = Cone
    plot = "round"
    nominal: StoredCone | None = None
    hits: Annotated[int, Field(ge=6, le=10_000)] = 12

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        angle = size("angle", "half_angle", nominal, 2, unit="rad")
        return (angle, form("form"), *axis_off(nominal), *tilt(nominal))


KIND = ConeRecipe
