"""Datum features: planes, axes, points and middle planes, each taking what those before it left over."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ...alignment import Alignment
from ..bases.systems import SettledRecipe, SystemInputs
from ..datums import Datum, system_of


class DatumFeaturesRecipe(SettledRecipe):
    kind: Literal["datum_features"] = "datum_features"
    datums: Annotated[tuple[Datum, ...], Field(min_length=1, max_length=3)]

    def solve(self, given: SystemInputs) -> Alignment:
        return system_of(self.datums, given, self.near)


KIND = DatumFeaturesRecipe
