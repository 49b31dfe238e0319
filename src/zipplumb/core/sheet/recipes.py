"""What was asked: one model per kind of row, one union, kept as JSON.

Lengths are mm. Sizes of round features are kept as diameters whatever the drawing says;
``terms`` only says how they are shown and typed, so that nominal and tolerance always turn
together.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, model_validator

from ..errors import InputError
from ..shapes import Cylinder, Plane

Vector = tuple[float, float, float]


def _has_length(value: Vector) -> Vector:
    if not any(value):
        raise ValueError("it has no length")
    return value


Direction = Annotated[Vector, AfterValidator(_has_length)]
Letter = Annotated[str, Field(pattern=r"^[A-Z]$")]


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Tolerance(_Model):
    """Limits of the deviation, mm."""

    lower_mm: float
    upper_mm: float

    @model_validator(mode="after")
    def _ordered(self):
        if self.upper_mm < self.lower_mm:
            raise ValueError("the upper limit lies below the lower one")
        return self


class NominalPlane(_Model):
    shape: Literal["plane"] = "plane"
    point: Vector
    normal: Direction

    def as_shape(self) -> Plane:
        return Plane(np.array(self.point), np.array(self.normal))


class NominalCylinder(_Model):
    shape: Literal["cylinder"] = "cylinder"
    point: Vector
    direction: Direction
    diameter_mm: Annotated[float, Field(gt=0)]
    inside: bool = True  # a bore, not a boss

    def as_shape(self) -> Cylinder:
        return Cylinder(np.array(self.point), np.array(self.direction), self.diameter_mm / 2)


class _Row(_Model):
    name: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=200)] = ""
    tolerance: Tolerance | None = None


class _Feature(_Row):
    face: int | None = None  # of the part's CAD, where the nominal was picked
    hits: Annotated[int, Field(ge=3, le=10_000)] = 4
    spacing_mm: Annotated[float, Field(gt=0, le=500)] = 5.0  # between hits while the button is held
    settled_air: Literal[-1, 1] | None = None  # a person's answer about the side


class PlaneRecipe(_Feature):
    kind: Literal["plane"] = "plane"
    nominal: NominalPlane | None = None
    datum: Letter | None = None


class CylinderRecipe(_Feature):
    kind: Literal["cylinder"] = "cylinder"
    nominal: NominalCylinder | None = None
    terms: Literal["diameter", "radius"] = "diameter"
    hits: Annotated[int, Field(ge=5, le=10_000)] = 12


class DatumPlanesRecipe(_Row):
    kind: Literal["datum_planes"] = "datum_planes"
    primary: int
    secondary: int
    tertiary: int


class DistanceRecipe(_Row):
    """``measure``: the perpendicular, or its component along one axis of the part."""

    kind: Literal["distance"] = "distance"
    first: int
    second: int
    measure: Literal["perpendicular", "along_x", "along_y", "along_z"] = "perpendicular"
    nominal_mm: float | None = None


Recipe = Annotated[PlaneRecipe | CylinderRecipe | DatumPlanesRecipe | DistanceRecipe, Field(discriminator="kind")]
_ADAPTER: TypeAdapter = TypeAdapter(Recipe)

_FIELD_WORDS = {
    "tolerance": "the tolerance",
    "hits": "the number of hits",
    "spacing_mm": "the distance between hits",
    "diameter_mm": "the diameter",
    "normal": "the normal",
    "direction": "the direction",
    "name": "the name",
    "datum": "the datum letter",
}


def recipe_from_dict(data: dict[str, Any]):
    """A recipe from JSON. Raises InputError naming the field that does not hold."""
    try:
        return _ADAPTER.validate_python(data)
    except ValidationError as error:
        first = error.errors()[0]
        places = [str(p) for p in first["loc"] if str(p) not in ("plane", "cylinder", "datum_planes", "distance")]
        field = next((_FIELD_WORDS[p] for p in reversed(places) if p in _FIELD_WORDS), " · ".join(places) or "the row")
        reason = first["msg"].removeprefix("Value error, ")
        raise InputError(
            f"{field[0].upper()}{field[1:]} is refused: {reason[0].lower()}{reason[1:]}.",
            "The row was left as it was.",
            "Correct it and save again.",
        ) from None


def depends_on(recipe) -> tuple[int, ...]:
    """The rows that a recipe names."""
    if isinstance(recipe, DatumPlanesRecipe):
        return (recipe.primary, recipe.secondary, recipe.tertiary)
    if isinstance(recipe, DistanceRecipe):
        return (recipe.first, recipe.second)
    return ()
