"""What a recipe's form is made of, read off its fields: one tree for drawing, filling and reading it.

A form is a flat table of texts by path (``steps.0.axis``); what stands for nothing is blank.
"""

from __future__ import annotations

import types
import typing
from dataclasses import dataclass, fields
from functools import cache
from typing import Annotated, Any, Literal, Union

from pydantic import BaseModel

from ...core.shape_codec import TYPES
from ...core.sheet.base import Internal, Ref, hints

Kind = Literal["text", "whole", "number", "length", "angle", "choice", "check", "row"]
CHOICE = "is"  # of something that may be of several kinds: which it is


@dataclass(frozen=True)
class Leaf:
    """One text. ``options``: of a choice; ``of``: of a row, what it is a row of."""

    kind: Kind
    options: tuple[str, ...] = ()
    of: str = ""


@dataclass(frozen=True)
class Vector:
    """Three numbers: of a place (lengths), or of a direction."""

    kind: Literal["length", "number"]


@dataclass(frozen=True)
class Group:
    """Named fields; ``constant``: what goes with them unseen."""

    parts: tuple[tuple[str, Spec], ...]
    constant: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Many:
    """Any number of the same, of which ``most`` may be."""

    item: Spec
    most: int


@dataclass(frozen=True)
class OneOf:
    """Of several kinds, by name; a name without a spec is the value itself. ``inside``: the name is a field of it."""

    arms: tuple[tuple[str, Spec | None], ...]
    inside: str = ""


@dataclass(frozen=True)
class LimitsSpec:
    """The characteristics that are asked, each with its limits."""


Spec = Leaf | Vector | Group | Many | OneOf | LimitsSpec


@cache
def spec_of_model(model: type[BaseModel]) -> Group:
    """The fields of a model, without those that no form shows."""
    parts = []
    for name in model.model_fields:
        hint = hints(model)[name]
        if name == "kind" or _marked(hint, Internal):
            continue
        parts.append((name, LimitsSpec() if name == "asked" else _spec(hint, name)))
    return Group(tuple(parts))


def _marked(hint: Any, mark: type) -> bool:
    return typing.get_origin(hint) is Annotated and any(isinstance(m, mark) for m in hint.__metadata__)


def _spec(hint: Any, name: str) -> Spec:
    if typing.get_origin(hint) is Annotated:
        mark = next((m for m in hint.__metadata__ if isinstance(m, Ref)), None)
        return Leaf("row", of=mark.what) if mark else _spec(typing.get_args(hint)[0], name)
    origin, args = typing.get_origin(hint), typing.get_args(hint)
    if origin in (Union, types.UnionType):
        return _union([a for a in args if a is not type(None)], name)
    if origin is Literal:
        return Leaf("choice", tuple(str(a) for a in args))
    if origin is tuple:
        if args[-1] is ...:
            return Many(_spec(args[0], name), 60)
        return Vector("length" if name.endswith("_mm") else "number")
    if hint in TYPES.values():
        return _shape(hint)
    if isinstance(hint, type) and issubclass(hint, BaseModel):
        return spec_of_model(hint)
    if hint is bool:
        return Leaf("check")
    return Leaf("whole" if hint is int else _number(name) if hint is float else "text")


def _number(name: str) -> Kind:
    return "length" if name.endswith("_mm") else "angle" if name.endswith("_rad") or name == "half_angle" else "number"


def _union(arms: list[Any], name: str) -> Spec:
    if len(arms) == 1:
        return _spec(arms[0], name)
    if all(isinstance(a, type) and issubclass(a, BaseModel) for a in arms):
        inside = next(n for n in arms[0].model_fields if typing.get_origin(hints(arms[0])[n]) is Literal)
        named = [(str(typing.get_args(hints(a)[inside])[0]), _without(spec_of_model(a), inside)) for a in arms]
        return OneOf(tuple(named), inside)
    found: list[tuple[str, Spec | None]] = []
    for arm in arms:
        if typing.get_origin(arm) is Literal:
            found += [(str(value), None) for value in typing.get_args(arm)]
        elif isinstance(arm, type) and issubclass(arm, BaseModel):
            found.append((arm.__name__.lower(), spec_of_model(arm)))
        else:
            found.append(("row", _spec(arm, name)))
    return OneOf(tuple(found))


def _without(group: Group, name: str) -> Group:
    return Group(tuple(p for p in group.parts if p[0] != name))


def _shape(kind: Any) -> Group:
    parts: list[tuple[str, Spec]] = []
    for field in fields(kind):
        if field.name in kind.points_:
            parts.append((field.name, Vector("length")))
        elif field.name in kind.directions_:
            parts.append((field.name, Vector("number")))
        elif field.name != "ends":  # which its recipe says
            parts.append((field.name, Leaf("length" if field.name in kind.lengths_ else _number(field.name))))
    return Group(tuple(parts), (("shape", kind.__name__.lower()),))
