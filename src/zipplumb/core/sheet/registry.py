"""The kinds of rows by their key: ``kinds`` fills them in, so that a kind may ask for another by its key."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .base import RowRecipe

KINDS: dict[str, type[RowRecipe]] = {}


def kind_of(stored: Mapping[str, Any]) -> type[RowRecipe]:
    """The kind of a stored recipe."""
    return KINDS[stored["kind"]]
