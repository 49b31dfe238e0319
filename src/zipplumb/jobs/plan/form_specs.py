"""The parts of a recipe's form, read off the fields of its model."""

from __future__ import annotations

import types
import typing
from dataclasses import fields
from functools import cache
from typing import Annotated, Any, Literal, Union

from pydantic import BaseModel

from ...core.shape_codec import TYPES
from ...core.sheet.base import Internal, Ref, hints
from .form_groups import Group, Many, OneOf, Vector
from .form_parts import IJK, XYZ, Part
from .form_texts import Angle, Check, Choice, Length, Number, RowNumber, Text, Whole

NUMBER, LENGTH, ANGLE = Number(), Length(), Angle()
PLACE, DIRECTION = Vector(LENGTH, XYZ), Vector(NUMBER, IJK)
MOST = 60  # of a list


@cache
def parts_of_model(model: type[BaseModel]) -> Group:
    """The fields of a model that a form shows; what is asked of a row has a form of its own."""
    parts = []
    for name, field in model.model_fields.items():
        hint = hints(model)[name]
        if name not in ("kind", "asked") and not _marked(hint, Internal):
            part = _part(hint, name)
            parts.append((name, part if field.is_required() else part.with_standard(field.default)))
    return Group(tuple(parts))


def _marked(hint: Any, mark: type) -> bool:
    return typing.get_origin(hint) is Annotated and any(isinstance(m, mark) for m in hint.__metadata__)


def _part(hint: Any, name: str) -> Part:
    if typing.get_origin(hint) is Annotated:
        mark = next((m for m in hint.__metadata__ if isinstance(m, Ref)), None)
        return RowNumber(of=mark.what) if mark else _part(typing.get_args(hint)[0], name)
    origin, args = typing.get_origin(hint), typing.get_args(hint)
    if origin in (Union, types.UnionType):
        return _union([a for a in args if a is not type(None)], name)
    if origin is Literal:
        return Choice(options=tuple(str(a) for a in args))
    if origin is tuple:
        if args[-1] is ...:
            return Many(_part(args[0], name), MOST)
        return PLACE if name.endswith("_mm") else DIRECTION
    if hint in TYPES.values():
        return _shape(hint)
    if isinstance(hint, type) and issubclass(hint, BaseModel):
        return parts_of_model(hint)
    if hint is bool:
        return Check()
    return Whole() if hint is int else _number(name) if hint is float else Text()


def _number(name: str) -> Number:
    return LENGTH if name.endswith("_mm") else ANGLE if name.endswith("_rad") or name == "half_angle" else NUMBER


def _union(arms: list[Any], name: str) -> Part:
    if len(arms) == 1:
        return _part(arms[0], name)
    if all(isinstance(a, type) and issubclass(a, BaseModel) for a in arms):
        inside = next(n for n in arms[0].model_fields if typing.get_origin(hints(arms[0])[n]) is Literal)
        named = [(str(typing.get_args(hints(a)[inside])[0]), _without(parts_of_model(a), inside)) for a in arms]
        return OneOf(tuple(named), inside)
    found: list[tuple[str, Part | None]] = []
    for arm in arms:
        if typing.get_origin(arm) is Literal:
            found += [(str(value), None) for value in typing.get_args(arm)]
        elif isinstance(arm, type) and issubclass(arm, BaseModel):
            found.append((arm.__name__.lower(), parts_of_model(arm)))
        else:
            found.append(("row", _part(arm, name)))
    return OneOf(tuple(found))


def _without(group: Group, name: str) -> Group:
    return Group(tuple(p for p in group.parts if p[0] != name))


def _shape(kind: Any) -> Group:
    parts: list[tuple[str, Part]] = []
    for field in fields(kind):
        if field.name in kind.points_:
            parts.append((field.name, PLACE))
        elif field.name in kind.directions_:
            parts.append((field.name, DIRECTION))
        elif field.name != "ends":  # which its recipe says
            parts.append((field.name, LENGTH if field.name in kind.lengths_ else _number(field.name)))
    return Group(tuple(parts), (("shape", kind.__name__.lower()),))
