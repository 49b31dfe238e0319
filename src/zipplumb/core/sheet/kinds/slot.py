"""A slot with round or square ends, in a plane."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ...shape_codec import StoredSlot
from ...shapes import Slot
from ..base import Internal
from ..bases.rims import RimRecipe
from ..quantities import Quantity, coordinates, form, size


class SlotRecipe(RimRecipe):
    kind: Literal["slot"] = "slot"
    shape_type = Slot
    plot = "round"
    nominal: StoredSlot | None = None
    seen_at: Annotated[StoredSlot | None, Internal()] = None
    ends: Literal["round", "square"] = "round"
    hits: Annotated[int, Field(ge=5, le=10_000)] = 10

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        return super().of_edge(nominal, inside, plane) | {"ends": nominal["ends"]}

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        ends, _, noun = fit_kind.partition("_")
        return {"kind": "slot", "ends": ends} if noun == "slot" else None

    @model_validator(mode="before")
    @classmethod
    def _nominal_ends(cls, data: Any) -> Any:
        """The nominal has the ends that the row has."""
        if isinstance(data, dict) and isinstance(data.get("nominal"), dict):
            return {**data, "nominal": {**data["nominal"], "ends": data.get("ends", "round")}}
        return data

    @property
    def fit_kind(self) -> str:
        return f"{self.ends}_slot"

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        sizes = (size("width", "width", nominal), size("length", "length", nominal))
        return (*sizes, *coordinates(nominal), form("form"))


KIND = SlotRecipe
