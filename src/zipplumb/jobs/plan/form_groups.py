"""Fields made of others: vectors, groups, lists, and one of several kinds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from ...core.errors import InputError
from ..words._shared import CHOICES
from .form_parts import CHOICE, KEPT, Form, FormField, Part, branches, in_order, plain
from .form_texts import Length, Number, Text


@dataclass(frozen=True)
class Vector(Part):
    """Three numbers, each read by ``number``: of a place along X, Y, Z, or of a direction, given as I, J, K.

    ``standard``: what they are where they are not typed; without it all three must be.
    """

    number: Length | Number
    names: str
    standard: tuple[float, ...] | None = None

    def with_standard(self, value: Any) -> Part:
        return replace(self, standard=value)

    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        for k, each in enumerate(value):
            yield f"{path}.{k}", self.number.told(each, f"{path}.{k}", form)

    def blank(self, tree: Any) -> bool:
        usual = dict(zip("012", map(plain, self.standard or ()), strict=False))
        return all(text in ("", None, usual.get(k)) for k, text in branches(tree).items())

    def read(self, tree: Any, path: str, label: str, form: Form) -> list[float] | None:
        if self.blank(tree):
            return None
        return [self._read_one(branches(tree).get(str(k), ""), k, path, label, form) for k in range(3)]

    def _read_one(self, text: Any, k: int, path: str, label: str, form: Form) -> float:
        if not isinstance(text, str) or text == "":
            if self.standard is not None:
                return self.standard[k]
            raise InputError(f"{label}, {self.names[k]} is not typed.", KEPT, "Type all three numbers.")
        return self.number.understood(text, f"{path}.{k}", f"{label}, {self.names[k]}", form)

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        unit, there, usual = self.number.unit(form), branches(tree), self.standard
        shown = [there.get(str(k), "" if usual is None else self.number.told(usual[k], f"{path}.{k}", form)) for k in range(3)]
        parts = tuple(FormField(f"{path}.{k}", self.names[k], "text", shown[k], unit) for k in range(3))
        return FormField(path, label, "vector", unit=unit, parts=parts)


@dataclass(frozen=True)
class Group(Part):
    """Named fields; ``constant``: what goes with them unseen."""

    parts: tuple[tuple[str, Part], ...]
    constant: tuple[tuple[str, str], ...] = ()

    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        for name, part in self.parts:
            if (mine := value.get(name)) is not None:
                yield from part.texts(mine, f"{path}.{name}".lstrip("."), form)

    def blank(self, tree: Any) -> bool:
        return all(part.blank(inner) for part, inner in self.inner(tree))

    def inner(self, tree: Any) -> Iterator[tuple[Part, Any]]:
        yield from ((part, branches(tree).get(name, "")) for name, part in self.parts)

    def read(self, tree: Any, path: str, label: str, form: Form) -> dict[str, Any] | None:
        if self.blank(tree):
            return None
        return {**dict(self.constant), **self._values(tree, path, label, form)}

    def _values(self, tree: Any, path: str, label: str, form: Form) -> dict[str, Any]:
        found = {}
        for name, part in self.parts:
            told = f"{label}, {form.words.field(name).lower()}"
            found[name] = part.read(branches(tree).get(name, ""), f"{path}.{name}", told, form)
        return {name: value for name, value in found.items() if value is not None}

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        return FormField(path, label, "group", parts=self.drawn_parts(tree, path, form))

    def drawn_parts(self, tree: Any, path: str, form: Form) -> tuple[FormField, ...]:
        there = branches(tree)
        return tuple(part.drawn(there.get(name), f"{path}.{name}", form.words.field(name), form) for name, part in self.parts)


@dataclass(frozen=True)
class Many(Part):
    """Any number of the same, of which ``most`` may be."""

    item: Part
    most: int

    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        for k, item in enumerate(value):
            yield from self.item.texts(item, f"{path}.{k}", form)

    def blank(self, tree: Any) -> bool:
        return all(part.blank(inner) for part, inner in self.inner(tree))

    def inner(self, tree: Any) -> Iterator[tuple[Part, Any]]:
        yield from ((self.item, item) for item in branches(tree).values())

    def read(self, tree: Any, path: str, label: str, form: Form) -> list[Any] | None:
        if not isinstance(tree, dict):
            return None
        items = [(k, item) for k, item in in_order(tree) if not self.item.left_out(item)]
        return [self.item.read(item, f"{path}.{k}", f"{label} {n}", form) for n, (k, item) in enumerate(items, 1)]

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        there = branches(tree)
        numbers = [k for k, _ in in_order(there)] or ["0"]
        parts = tuple(self.item.drawn(there.get(k), f"{path}.{n}", f"{n + 1}", form) for n, k in enumerate(numbers))
        return FormField(path, label, "list", parts=parts, more=len(numbers) if len(numbers) < self.most else None)


@dataclass(frozen=True)
class OneOf(Part):
    """A choice among kinds, by name; a name without a part is the value itself. ``inside``: the name is a field of it."""

    arms: tuple[tuple[str, Part | None], ...]
    inside: str = ""

    @property
    def _named(self) -> str:
        return self.inside or CHOICE

    def _arm(self, name: str, tree: Any, path: str) -> tuple[Part | None, Any, str]:
        """Parts of the form of an arm, with its tree and its path."""
        arm = dict(self.arms).get(name)
        if self.inside:
            return arm, tree, path
        return arm, branches(tree).get(name, {}), f"{path}.{name}"

    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        name = value[self.inside] if self.inside else self._name_of(value)
        yield f"{path}.{self._named}", name
        arm, _, place = self._arm(name, {}, path)
        if arm is not None:
            yield from arm.texts(value, place, form)

    def _name_of(self, value: Any) -> str:
        if isinstance(value, str):
            return value
        wanted = Group if isinstance(value, dict) else Text
        return next(name for name, arm in self.arms if isinstance(arm, wanted))

    def blank(self, tree: Any) -> bool:
        name = branches(tree).get(self._named, "")
        if name and name not in dict(self.arms):
            return False
        arm, there, _ = self._arm(name, tree, "")
        return arm is None or arm.blank(there)

    def inner(self, tree: Any) -> Iterator[tuple[Part, Any]]:
        arm, there, _ = self._arm(branches(tree).get(self._named, ""), tree, "")
        if arm is not None:
            yield arm, there

    def read(self, tree: Any, path: str, label: str, form: Form) -> Any:
        if not isinstance(tree, dict):
            return None
        name = tree.get(self._named, "")
        if name not in dict(self.arms):
            raise InputError(f"“{str(name)[:20]}” in {label.lower()} is none of the choices.", KEPT, "Choose one.")
        arm, there, _ = self._arm(name, tree, path)
        if arm is None:
            return name
        value = arm.read(there, path, label, form)
        return {**(value or {}), self.inside: name} if self.inside else value

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        there = branches(tree)
        which = there.get(self._named, self.arms[0][0])
        options = tuple((name, CHOICES.get(name, form.words.field(name))) for name, _ in self.arms)
        parts = [FormField(f"{path}.{self._named}", label, "choice", which, choices=options)]
        arm, inner, place = self._arm(which, there, path)
        if isinstance(arm, Group):
            parts += arm.drawn_parts(inner, place, form)
        elif arm is not None:
            parts.append(arm.drawn(inner, place, form.words.field("feature"), form))
        return FormField(path, label, "one_of", parts=tuple(parts))
