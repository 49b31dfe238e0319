"""What all rows share."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

Vector = tuple[float, float, float]


def _has_length(value: Vector) -> Vector:
    if not any(value):
        raise ValueError("it has no length")
    return value


Direction = Annotated[Vector, AfterValidator(_has_length)]
Letter = Annotated[str, Field(pattern=r"^[A-Z]$")]
Length = Annotated[float, Field(gt=0)]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Tolerance(Model):
    """Limits of the deviation, mm."""

    lower_mm: float
    upper_mm: float

    @model_validator(mode="after")
    def _ordered(self):
        if self.upper_mm < self.lower_mm:
            raise ValueError("the upper limit lies below the lower one")
        return self


class RowRecipe(Model):
    name: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=200)] = ""
    tolerance: Tolerance | None = None
