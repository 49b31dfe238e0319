"""Recipes from plain data: one union of all kinds; an invalid one is refused with the name of the field."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from ..errors import InputError
from .base import RowRecipe
from .registry import KINDS

KEPT = "The row was left as it was."
FIELD_WORDS = {
    "asked": "the limits",
    "hits": "the number of hits",
    "spacing_mm": "the distance between hits",
    "every_s": "the time between hits",
    "datum": "the datum letter",
    "nominal_mm": "the nominal",
    "nominal_rad": "the nominal",
    "of": "what it is made of",
    "u_mm": "the uncertainty",
}


def recipe_from_dict(data: Mapping[str, Any]) -> RowRecipe:
    """A recipe from JSON. Raises InputError naming the field that does not hold."""
    key = data.get("kind")
    if not isinstance(key, str) or key not in KINDS:
        raise InputError(f"The kind is refused: there is none called “{str(key)[:30]}”.", KEPT, "Choose one of the list.")
    try:
        return KINDS[key].model_validate(dict(data))
    except ValidationError as error:
        first = error.errors()[0]
        field, reason = field_words([str(p) for p in first["loc"]]), _reason(first)
        raise InputError(f"{field[0].upper()}{field[1:]} cannot be so: {reason}.", KEPT, "Correct it and save again.") from None


def _reason(error: Mapping[str, Any]) -> str:
    """Why a field was refused, in words."""
    least = error.get("ctx", {}).get("min_length")
    if error["type"] == "missing":
        return "it is not there"
    if error["type"] == "too_short":
        return f"at least {least} {'is' if least == 1 else 'are'} needed"
    reason = error["msg"].removeprefix("Value error, ").removesuffix(".")
    return f"{reason[0].lower()}{reason[1:]}"


def field_words(places: list[str]) -> str:
    """A field's place in a recipe, in words."""
    known = next((FIELD_WORDS[p] for p in reversed(places) if p in FIELD_WORDS), "")
    named = [p for p in places if not p.isdigit()]
    return known or (f"the {named[-1].removesuffix('_mm').replace('_', ' ')}" if named else "the row")
