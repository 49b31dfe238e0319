"""A row's recipe as it is stored: read and changed as its model, and written by nothing else."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import ColumnElement

from ...core.sheet import KINDS, RowRecipe, recipe_from_dict
from ...store.models import Row


def recipe_of(row: Row) -> RowRecipe:
    """The recipe of a stored row."""
    return recipe_from_dict(row.recipe)


def whose_kind(says: Callable[[type[RowRecipe]], bool]) -> ColumnElement[bool]:
    """A condition of a query: stored rows whose kind satisfies a predicate."""
    return Row.recipe["kind"].astext.in_([key for key, kind in KINDS.items() if says(kind)])


def rewrite(row: Row, recipe: RowRecipe) -> dict[str, Any]:
    """Give a row another recipe. Returns the one before, as it was stored."""
    before, row.recipe = row.recipe, recipe.model_dump(mode="json")
    return before


def changed(row: Row, **fields: Any) -> dict[str, Any]:
    """Change some fields of a row's recipe. Returns the one before, as it was stored.

    Raises
    ------
    InputError
        Naming the field that the kind does not have, or whose value it refuses; the row is left as it was.
    """
    return rewrite(row, recipe_from_dict({**row.recipe, **fields}))
