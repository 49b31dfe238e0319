"""Datum features: planes, axes, points and middle planes, each taking what those before it left over."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice, permutations
from typing import Annotated, Literal

from pydantic import Field

from ...alignment import Alignment
from ..bases.systems import SettledRecipe, SystemInputs
from ..datums import Datum, system_of


class DatumFeaturesRecipe(SettledRecipe):
    kind: Literal["datum_features"] = "datum_features"
    datums: Annotated[tuple[Datum, ...], Field(min_length=1, max_length=3)]

    @property
    def other_orders(self) -> Iterator[DatumFeaturesRecipe]:
        for order in islice(permutations(self.datums), 1, None):
            yield self.model_copy(update={"datums": order})

    def solve(self, given: SystemInputs) -> Alignment:
        return system_of(self.datums, given, self.near)


KIND = DatumFeaturesRecipe
