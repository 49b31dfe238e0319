"""The registry of the kinds of rows by key, filled by ``kinds``; a kind finds another through it without importing it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .base import RowRecipe

KINDS: dict[str, type[RowRecipe]] = {}


def kind_of(stored: Mapping[str, Any]) -> type[RowRecipe]:
    """The kind of a stored recipe."""
    return KINDS[stored["kind"]]
