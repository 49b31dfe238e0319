"""A torus: a ring, or the fillet or groove that is a part of one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ...shape_codec import StoredTorus
from ...shapes import Torus
from ..base import Internal, Needed
from ..bases.measured import EnclosedRecipe, pointing_out
from ..bases.seen import SeenRecipe
from ..quantities import Quantity, coordinates, form, size, tilt
from ..results import Sense
from ..row_hits import RowHits


class TorusRecipe(SeenRecipe, EnclosedRecipe):
    kind: Literal["torus"] = "torus"
    fits = "torus"
    shape_type = Torus
    plot = "round"
    nominal: StoredTorus | None = None
    seen_at: Annotated[StoredTorus | None, Internal()] = None
    hits: Annotated[int, Field(ge=7, le=10_000)] = 16

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        ring = size("ring_diameter", "major_radius", nominal, 2)
        tube = size("tube_diameter", "minor_radius", nominal, 2)
        return (ring, tube, *coordinates(nominal), form("form"), *tilt(nominal))

    def pointing(self, shape: Any, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Any, Sense]:
        return pointing_out(shape, hits)


KIND = TorusRecipe
