"""A cylinder: a bore or a boss."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredCylinder
from ...shapes import Cylinder
from ..bases.measured import RoundCriterion, RoundRecipe
from ..quantities import Quantity, axis_off, form, size, tilt


class CylinderRecipe(RoundRecipe):
    kind: Literal["cylinder"] = "cylinder"
    fits = "cylinder"
    shape_type = Cylinder
    plot = "round"
    criterion: RoundCriterion = "gaussian"
    nominal: StoredCylinder | None = None
    hits: Annotated[int, Field(ge=5, le=10_000)] = 12

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        diameter = size("diameter", "radius", nominal, 2)
        return (diameter, form("cylindricity"), *axis_off(nominal), *tilt(nominal))


KIND = CylinderRecipe
