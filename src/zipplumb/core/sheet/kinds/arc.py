"""A part of a circle, in a plane: a cradle, a fillet, a rounded corner."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredArc
from ...shapes import Arc
from ..bases.flat import FlatRecipe
from ..bases.measured import RoundRecipe, Terms
from ..quantities import Quantity, coordinates, form, size


class ArcRecipe(FlatRecipe, RoundRecipe):
    """Three hits solve it, five show its form. A drawing tells its radius."""

    kind: Literal["arc"] = "arc"
    fits = "arc"
    practice_hits = 5
    shape_type = Arc
    plot = "round"
    criterion: Literal["gaussian", "chebyshev"] = "gaussian"
    nominal: StoredArc | None = None
    terms: Terms = "radius"
    hits: Annotated[int, Field(ge=3, le=10_000)] = 5

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (size("diameter", "radius", nominal, 2), *coordinates(nominal), form("roundness"))


KIND = ArcRecipe
