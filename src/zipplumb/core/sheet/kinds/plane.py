"""A plane."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...cloud.giving import GivenPoints
from ...cloud.outlines import given_in
from ...frames import Array
from ...shape_codec import StoredPlane
from ...shapes import Plane
from ..base import Internal
from ..bases.measured import StraightCriterion
from ..bases.seen import SeenRecipe
from ..clouds import FoundCloud
from ..quantities import Quantity, form, height, tilt
from ..row_hits import RowHits


class PlaneRecipe(SeenRecipe):
    """Where a scan has its edges only (no ``pointed_at``), it takes those that lie in it."""

    kind: Literal["plane"] = "plane"
    fits = "plane"
    practice_hits = 9
    shape_type = Plane
    carries_outlines = True
    plot = "map"
    criterion: StraightCriterion = "gaussian"
    nominal: StoredPlane | None = None
    seen_at: Annotated[StoredPlane | None, Internal()] = None
    hits: Annotated[int, Field(ge=3, le=10_000)] = 4

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (*height(nominal), form("flatness"), *tilt(nominal))

    def of_scan(self, row: int, cloud: FoundCloud) -> GivenPoints | None:
        if self.seen_at is None or self.pointed_at is not None:
            return super().of_scan(row, cloud)
        return given_in(cloud.edges, self.seen_at)

    def toward(self, hits: RowHits) -> Array | None:
        return hits.came_from

    def faces_away(self, shape_part: Plane) -> bool:
        if self.nominal is None or self.settled_air is not None:
            return False
        return float(shape_part.normal @ self.nominal.normal) < 0

    def pulled_side(self, pull_off: int) -> int:
        return 1  # its normal was turned to where the tip was pulled off


KIND = PlaneRecipe
