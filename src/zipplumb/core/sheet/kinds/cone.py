"""A cone: a conical seat or a taper."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredCone
from ...shapes import Cone
from ..base import Internal
from ..bases.measured import EnclosedRecipe
from ..bases.seen import SeenRecipe
from ..quantities import Quantity, axis_off, form, size, tilt


class ConeRecipe(SeenRecipe, EnclosedRecipe):
    kind: Literal["cone"] = "cone"
    fits = "cone"
    practice_hits = 12
    shape_type = Cone
    plot = "round"
    nominal: StoredCone | None = None
    seen_at: Annotated[StoredCone | None, Internal()] = None
    hits: Annotated[int, Field(ge=6, le=10_000)] = 12

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        angle = size("angle", "half_angle", nominal, 2, unit="rad")
        return (angle, form("form"), *axis_off(nominal), *tilt(nominal))


KIND = ConeRecipe
