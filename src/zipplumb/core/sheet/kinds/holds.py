"""Best fit with holds: rows that hold the part in chosen directions, with weights and levels."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...alignment import Alignment, align_holds
from ..base import Internal
from ..bases.systems import ByMaterial, Held, SettledRecipe, SystemInputs, scale_factor, u_scale_factor


class HoldsRecipe(SettledRecipe):
    kind: Literal["holds"] = "holds"
    holds: Annotated[tuple[Held, ...], Field(min_length=1)]
    scale: Literal["fixed", "free"] | ByMaterial = "fixed"
    warm: Annotated[None, Internal()] = None  # its own scale says it

    @property
    def ticks(self) -> tuple[Held, ...]:
        return self.holds

    def also_held(self, feature: int, directions: tuple[Any, ...]) -> HoldsRecipe:
        return self.model_copy(update={"holds": (*self.holds, Held(feature=feature, directions=directions))})

    def solve(self, given: SystemInputs) -> Alignment:
        holds = [given[h.feature].hold(h.directions, h.u_mm, h.level) for h in self.holds]
        return align_holds(holds, scale=scale_factor(self.scale), near=self.near, u_scale=u_scale_factor(self.scale))


KIND = HoldsRecipe
