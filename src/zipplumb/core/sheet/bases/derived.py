"""The base of the kinds that are made of other rows' features."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ...deriving import Given
from ..base import FeatureRef, Length, RowRecipe


class DerivedRecipe(RowRecipe):
    """Its parents, and the numbers that some derivations need."""

    of: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=60)]
    offset_mm: Annotated[float, Field(gt=-1e6, lt=1e6)] | None = None
    height_mm: Length | None = None
    diameter_mm: Length | None = None

    @property
    def given(self) -> Given:
        return Given(self.offset_mm, self.height_mm, self.diameter_mm)
