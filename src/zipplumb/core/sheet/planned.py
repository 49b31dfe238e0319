"""A recipe as it stands in the plan of many pieces: without what was found of one, its rows named by their keys there."""

from __future__ import annotations

import types
import typing
from collections.abc import Callable
from typing import Annotated, Any, Union

from pydantic import BaseModel

from .base import Needed, Ref, RowRecipe, fields_that_refer

Rename = Callable[[Needed], int | None]  # None: it is left out


def found_here(kind: type[RowRecipe]) -> frozenset[str]:
    """The fields of a kind, its bases' too, that tell what was found of one piece."""
    return frozenset(name for each in kind.__mro__ for name in vars(each).get("found_here", ()))


def as_planned(recipe: RowRecipe, rename: Rename) -> dict[str, Any]:
    """Plain data of a recipe with what it names renamed, and without what was found of one piece.

    ``rename``: of what is named. The data need not make a recipe: where something that the kind cannot do without is left out,
    ``recipe_from_dict`` says so.
    """
    return {name: value for name, value in renamed(recipe, rename).items() if name not in found_here(type(recipe))}


def renamed(model: BaseModel, rename: Rename) -> dict[str, Any]:
    """Plain data of any model with what it names renamed."""
    return dict(_renamed(model, None, rename))


def _renamed(value: Any, annotation: Any, rename: Rename) -> Any:
    """Plain data of a value of such an annotation; see ``base.references``, which walks the same way."""
    if isinstance(value, BaseModel):
        raw = value.model_dump(mode="json")
        names = fields_that_refer(type(value))
        return raw | {
            name: _renamed(getattr(value, name), hint, rename) for name, hint in names if _walked(getattr(value, name))
        }
    origin = typing.get_origin(annotation)
    if origin is Annotated:
        mark = next((m for m in annotation.__metadata__ if isinstance(m, Ref)), None)
        return rename(Needed(mark.what, value)) if mark else _renamed(value, typing.get_args(annotation)[0], rename)
    if origin in (Union, types.UnionType):
        return _renamed(value, next((arm for arm in typing.get_args(annotation) if _may_be(value, arm)), None), rename)
    if isinstance(value, dict) and _may_be(0, typing.get_args(annotation)[0]):
        key = typing.get_args(annotation)[0]
        by_key = {_renamed(each, key, rename): told for each, told in value.items()}
        return {str(each): told for each, told in by_key.items() if each is not None}
    if isinstance(value, tuple):
        arms = typing.get_args(annotation)
        found = [_renamed(each, arms[0] if arms[-1] is ... else arms[k], rename) for k, each in enumerate(value)]
        return [each for each in found if each is not None]
    return value


def _walked(value: Any) -> bool:
    """What is stored in a way of its own, a shape say, names nothing."""
    return value is not None and isinstance(value, BaseModel | tuple | int | dict)


def _may_be(value: Any, annotation: Any) -> bool:
    """A value is of one arm of a union, as far as that names anything."""
    while typing.get_origin(annotation) is Annotated:
        if any(isinstance(m, Ref) for m in annotation.__metadata__):
            return isinstance(value, int)
        annotation = typing.get_args(annotation)[0]
    return isinstance(value, tuple) and typing.get_origin(annotation) is tuple
