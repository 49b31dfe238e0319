"""Best fit with holds: rows that hold the part in chosen directions, with weights and levels."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from ...alignment import Alignment, align_holds
from ..base import FeatureRef, Model
from ..systems import ByMaterial, SettledRecipe, SystemInputs, TypedU, scale_factor, u_scale_factor

Share = Literal["X", "Y", "Z", "own"]


class Held(Model):
    """One row of a best fit. ``u_mm``: its weight; left out, what its own measuring tells."""

    feature: FeatureRef
    directions: Annotated[tuple[Share, ...], Field(min_length=1, max_length=3)]
    u_mm: TypedU | None = None
    level: Literal[1, 2, 3] = 1

    @model_validator(mode="after")
    def _once(self):
        if len(set(self.directions)) < len(self.directions):
            raise ValueError("a direction is given twice")
        return self


class HoldsRecipe(SettledRecipe):
    kind: Literal["holds"] = "holds"
    holds: Annotated[tuple[Held, ...], Field(min_length=1)]
    scale: Literal["fixed", "free"] | ByMaterial = "fixed"

    def solve(self, given: SystemInputs) -> Alignment:
        holds = [given[h.feature].hold(h.directions, h.u_mm, h.level) for h in self.holds]
        return align_holds(holds, scale=scale_factor(self.scale), near=self.near, u_scale=u_scale_factor(self.scale))


KIND = HoldsRecipe
