"""Parts of forms. Each fills its texts from a recipe's data, reads them back, and is rendered as a field.

A form is a flat table of texts by path (``steps.0.axis``); read, it is a tree of the same names. What stands for nothing is
blank.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ...core.errors import InputError
from ...core.sheet import RowRecipe
from ...core.units import (
    Units,
    length_from_text,
    number_from_text,
    quantity_from_text,
    quantity_value,
    typed_text,
    whole_number,
)
from ..words import KindWords
from ..words._shared import CHOICES

KEPT = "The row was left as it was."
CHOICE = "is"  # of something that may be of several kinds: which it is
XYZ, IJK = "XYZ", "IJK"
Texts = Mapping[str, str]
Rows = Mapping[str, Sequence[tuple[str, str]]]


@dataclass(frozen=True)
class FormField:
    """One field, or a group or list of fields, as the template draws it.

    ``kind``: text, choice, check, group, list, limits. ``path`` is its name in the form; ``more``: of a list, the
    number of its next item, where another may follow. ``main``: it stands in front; ``follows``: other fields follow what is
    chosen in it. ``later``: it is seldom needed, and stands behind the others in a new form.
    """

    path: str
    label: str
    kind: str
    value: str = ""
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()
    parts: tuple[FormField, ...] = ()
    more: int | None = None
    main: bool = False
    follows: bool = False
    later: bool = False


@dataclass(frozen=True)
class Form:
    """A form of a kind of row, in a person's units. ``rows``: of "feature", "system", "station", what may be named, as
    (id, words)."""

    kind: type[RowRecipe]
    words: KindWords
    units: Units
    texts: Texts
    rows: Rows = field(default_factory=dict)

    def factor(self, path: str) -> float:
        """The factor from the drawing's value to the stored one: 2 of a diameter that is kept as a radius."""
        return self.kind.drawn(path, self.texts)[1]


class Part(ABC):
    """A field of a recipe, or several."""

    def with_standard(self, value: Any) -> Part:
        """The field with the value that it has where nothing is typed: a new form shows it."""
        return self

    @abstractmethod
    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        """The texts of a value that is not None, by their paths."""

    @abstractmethod
    def blank(self, tree: Any) -> bool:
        """Nothing was typed: choices that always say something do not count."""

    @abstractmethod
    def read(self, tree: Any, path: str, label: str, form: Form) -> Any:
        """The value; None where there is none. Raises InputError naming the field."""

    @abstractmethod
    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField: ...

    def left_out(self, tree: Any) -> bool:
        """Its value when left out of a list."""
        return self.blank(tree)

    def names_one(self, tree: Any) -> bool:
        """A row or a station was chosen in it."""
        return any(part.names_one(inner) for part, inner in self.inner(tree))

    def inner(self, tree: Any) -> Iterator[tuple[Part, Any]]:
        """The fields that it is made of, each with its tree."""
        yield from ()


def plain(value: float) -> str:
    return f"{value:.8g}"


def branches(tree: Any) -> dict[str, Any]:
    return tree if isinstance(tree, dict) else {}


def in_order(tree: Mapping[str, Any]) -> list[tuple[str, Any]]:
    """Items of a list by their numbers."""

    def number(item: tuple[str, Any]) -> int:
        found = whole_number(item[0], 99_999)
        return 10**6 if found is None else found

    return sorted(tree.items(), key=number)


# ---- one text ----------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class Text(Part):
    """One text, kept as it is; the base of what is typed into one field. ``standard``: its value where nothing is typed."""

    standard: Any = None

    def texts(self, value: Any, path: str, form: Form) -> Iterator[tuple[str, str]]:
        yield path, self.told(value, path, form)

    def told(self, value: Any, path: str, form: Form) -> str:
        return str(value)

    def with_standard(self, value: Any) -> Part:
        return replace(self, standard=value)

    def shown(self, tree: Any, path: str, form: Form) -> str:
        """Text of the field: what was typed, or the default in a new form."""
        if isinstance(tree, str):
            return tree
        return "" if self.standard is None else self.told(self.standard, path, form)

    def blank(self, tree: Any) -> bool:
        return not isinstance(tree, str) or tree in ("", self.usual)

    @property
    def usual(self) -> str:
        """The standard as a new form shows it, but for units."""
        return "" if self.standard is None else self.plainly(self.standard)

    def plainly(self, value: Any) -> str:
        return str(value)

    def left_out(self, tree: Any) -> bool:
        return tree == ""

    def read(self, tree: Any, path: str, label: str, form: Form) -> Any:
        text = tree if isinstance(tree, str) else ""
        return None if text == "" else self.understood(text, path, label, form)

    def understood(self, text: str, path: str, label: str, form: Form) -> Any:
        return text

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        text = self.shown(tree, path, form)
        own = form.words.choices(path)
        if own is not None:
            return FormField(path, label, "choice", text, choices=tuple(own))
        name = form.kind.drawn(path, form.texts)[0]
        return FormField(path, name.capitalize() if name else label, "text", text, self.unit(form))

    def unit(self, form: Form) -> str:
        return ""


class Number(Text):
    def plainly(self, value: Any) -> str:
        return plain(value)

    def told(self, value: Any, path: str, form: Form) -> str:
        return plain(value)

    def understood(self, text: str, path: str, label: str, form: Form) -> float:
        return number_from_text(text, label)


class Length(Number):
    def told(self, value: Any, path: str, form: Form) -> str:
        return typed_text(form.factor(path) * value, form.units)

    def understood(self, text: str, path: str, label: str, form: Form) -> float:
        return length_from_text(text, form.units, label) / form.factor(path)

    def unit(self, form: Form) -> str:
        return form.units


class Angle(Number):
    def told(self, value: Any, path: str, form: Form) -> str:
        return plain(quantity_value(form.factor(path) * value, "rad", form.units))

    def understood(self, text: str, path: str, label: str, form: Form) -> float:
        return quantity_from_text(text, "rad", form.units, label)

    def unit(self, form: Form) -> str:
        return "°"


class Whole(Text):
    def understood(self, text: str, path: str, label: str, form: Form) -> int:
        number = whole_number(text)
        if number is None:
            raise InputError(f"“{text[:20]}” in {label.lower()} is no whole number.", KEPT, "Type a number, or choose a row.")
        return number


@dataclass(frozen=True, kw_only=True)
class RowNumber(Whole):
    """A row, or a station. ``of``: what it is a row of."""

    of: str

    def names_one(self, tree: Any) -> bool:
        return not self.blank(tree)

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        text = tree if isinstance(tree, str) else ""
        return FormField(path, label, "choice", text, choices=(("", "–"), *form.rows.get(self.of, ())))


class Check(Text):
    def told(self, value: Any, path: str, form: Form) -> str:
        return "1" if value else "0"

    def blank(self, tree: Any) -> bool:
        return True

    def read(self, tree: Any, path: str, label: str, form: Form) -> bool:
        return tree == "1"

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        return FormField(path, label, "check", (tree if isinstance(tree, str) else "") or ("1" if self.standard else "0"))


@dataclass(frozen=True, kw_only=True)
class Choice(Text):
    options: tuple[str, ...]

    def blank(self, tree: Any) -> bool:
        return True

    def understood(self, text: str, path: str, label: str, form: Form) -> int | str:
        if text not in self.options:
            raise InputError(f"“{text[:20]}” in {label.lower()} is none of the choices.", KEPT, "Choose one.")
        return int(text) if text.lstrip("-").isdigit() else text

    def drawn(self, tree: Any, path: str, label: str, form: Form) -> FormField:
        text, own = (tree if isinstance(tree, str) else ""), form.words.choices(path)
        if own is not None:
            return FormField(path, label, "choice", text, choices=tuple(own))
        options = tuple((option, CHOICES.get(option, option)) for option in self.options)
        if path.rpartition(".")[2].isdigit():  # of a list: it may be left out
            options = (("", "–"), *options)
        return FormField(path, label, "choice", text or self.shown(None, path, form), choices=options)


# ---- several -----------------------------------------------------------------------------------


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
