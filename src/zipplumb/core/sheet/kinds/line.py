"""A straight edge, in the plane that it lies in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...errors import InputError
from ...fitting import FitResult
from ...frames import Array
from ...shape_codec import StoredLine
from ...shapes import Line, Plane
from ..base import Needed
from ..bases.flat import FlatRecipe
from ..bases.measured import StraightCriterion, pointing_by_order
from ..quantities import Quantity, axis_off, form, tilt
from ..results import Sense
from ..row_hits import RowHits


class LineRecipe(FlatRecipe):
    kind: Literal["line"] = "line"
    fits = "line"
    practice_hits = 5
    shape_type = Line
    belongs_at_nominal = False  # the wall that makes an edge is touched at any height
    plot = "along"
    criterion: StraightCriterion = "gaussian"
    takes_own_plane = False
    nominal: StoredLine | None = None
    hits: Annotated[int, Field(ge=2, le=10_000)] = 5

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        if plane is None:
            raise InputError(
                "A straight edge is measured in the plane of a face.", "Nothing was planned.", "Plan the face beside it first."
            )
        return super().of_edge(nominal, inside, plane)

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (form("straightness"), *axis_off(nominal), *tilt(nominal))

    def faced(self, result: FitResult) -> Plane:
        """The plane through it that faces across."""
        return Plane(result.shape.point, result.local.rotation[:, 2])

    def _across(self, result: FitResult, tip_radius_mm: float, air: int) -> Array:
        return np.asarray(-air * tip_radius_mm * result.local.rotation[:, 2])

    def surface(self, result: FitResult, tip_radius_mm: float, air: int) -> Line:
        return Line(result.shape.point + self._across(result, tip_radius_mm, air), result.shape.direction)

    def contacts(self, result: FitResult, surface: Any, tip_radius_mm: float, air: int) -> Array:
        return result.points + self._across(result, tip_radius_mm, air)

    def pointing(self, shape: Any, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Any, Sense]:
        return pointing_by_order(shape, hits)


KIND = LineRecipe
