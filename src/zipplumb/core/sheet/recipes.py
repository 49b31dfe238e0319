"""What was asked: one model per kind of row, one union, kept as JSON."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError

from ..errors import InputError
from .alignments import AlignmentRecipe, AlignmentRow, features_of
from .base import RowRecipe
from .features import FeatureRow, Flat


class DistanceRecipe(RowRecipe):
    """``measure``: the perpendicular, or its component along one axis of the part."""

    kind: Literal["distance"] = "distance"
    first: int
    second: int
    measure: Literal["perpendicular", "along_x", "along_y", "along_z"] = "perpendicular"
    nominal_mm: float | None = None


Recipe = Annotated[FeatureRow | AlignmentRow | DistanceRecipe, Field(discriminator="kind")]
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
        places = [str(p) for p in first["loc"][1:]] or [str(p) for p in first["loc"]]
        field = next((_FIELD_WORDS[p] for p in reversed(places) if p in _FIELD_WORDS), " · ".join(places) or "the row")
        reason = first["msg"].removeprefix("Value error, ")
        raise InputError(
            f"{field[0].upper()}{field[1:]} is refused: {reason[0].lower()}{reason[1:]}.",
            "The row was left as it was.",
            "Correct it and save again.",
        ) from None


def depends_on(recipe) -> tuple[int, ...]:
    """The rows that a recipe names, whose measured features it needs."""
    if isinstance(recipe, AlignmentRecipe):
        return features_of(recipe)
    if isinstance(recipe, DistanceRecipe):
        return (recipe.first, recipe.second)
    if isinstance(recipe, Flat) and recipe.plane is not None:
        return (recipe.plane,)
    return ()
