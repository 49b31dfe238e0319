"""Fields of one text: names, numbers, lengths, angles, rows, ticks and choices."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from ...core.errors import InputError
from ...core.units import (
    length_from_text,
    number_from_text,
    quantity_from_text,
    quantity_value,
    typed_text,
    whole_number,
)
from ..words._shared import CHOICES
from .form_parts import KEPT, Form, FormField, Part, plain


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
