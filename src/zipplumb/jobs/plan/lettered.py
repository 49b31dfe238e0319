"""Datums of a sheet by their letters: the row that has the letter, or its targets A1, A2, … together (ISO 5459)."""

from __future__ import annotations

import re
from collections.abc import Iterable

from ...core.sheet import RowRecipe

_TARGET = re.compile("([A-Z])([1-9][0-9]?)")


def target_of(recipe: RowRecipe) -> tuple[str, int] | None:
    """The letter and number of a datum target: a place on a surface that is called so."""
    called = _TARGET.fullmatch(recipe.name) if recipe.on_surface else None
    return (called[1], int(called[2])) if called else None


def letter_of(recipe: RowRecipe) -> str:
    """The letter of the datum that a row is, or is a target of; "" for none."""
    target = target_of(recipe)
    return recipe.datum_letter or (target[0] if target else "")


def datums_of(rows: Iterable[tuple[int, RowRecipe]]) -> dict[str, tuple[int, ...]]:
    """The rows that are a datum, by its letter; a letter of its own goes before targets, which come by their numbers."""
    own: dict[str, tuple[int, ...]] = {}
    targets: dict[str, dict[int, int]] = {}
    for number, recipe in rows:
        if recipe.datum_letter:
            own[recipe.datum_letter] = (number,)
        elif (target := target_of(recipe)) is not None:
            targets.setdefault(target[0], {})[target[1]] = number
    return {letter: tuple(found[k] for k in sorted(found)) for letter, found in targets.items()} | own
