"""A cylinder: a bore or a boss."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredCylinder
from ...shapes import Cylinder
from ..base import Internal, Needed
from ..bases.measured import RoundCriterion, RoundRecipe, pointing_out
from ..bases.seen import SeenRecipe
from ..quantities import Quantity, axis_off, form, size, tilt
from ..results import Sense
from ..row_hits import RowHits


class CylinderRecipe(SeenRecipe, RoundRecipe):
    kind: Literal["cylinder"] = "cylinder"
    fits = "cylinder"
    practice_hits = 12
    shape_type = Cylinder
    plot = "round"
    criterion: RoundCriterion = "gaussian"
    nominal: StoredCylinder | None = None
    seen_at: Annotated[StoredCylinder | None, Internal()] = None
    hits: Annotated[int, Field(ge=5, le=10_000)] = 12

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        diameter = size("diameter", "radius", nominal, 2)
        return (diameter, form("cylindricity"), *axis_off(nominal), *tilt(nominal))

    def pointing(self, shape: Any, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Any, Sense]:
        return pointing_out(shape, hits)


KIND = CylinderRecipe
