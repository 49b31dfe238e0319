"""Two maps compared: as found and as left, or one piece and another."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import model_validator

from ..base import Internal, MapRef
from ..bases.mapped import ComparedRecipe


class ComparisonRecipe(ComparedRecipe):
    kind: Literal["comparison"] = "comparison"
    first: Annotated[MapRef, Internal()]
    second: Annotated[MapRef, Internal()]

    @model_validator(mode="after")
    def _of_two(self) -> Any:
        if self.first == self.second:
            raise ValueError("a map differs from itself nowhere")
        return self


KIND = ComparisonRecipe
