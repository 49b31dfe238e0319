"""The base of the parts of forms. Each fills its texts from a recipe's data, reads them back, and is rendered as a field.

A form is a flat table of texts by path (``steps.0.axis``); read, it is a tree of the same names. What stands for nothing is
blank.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ...core.sheet import RowRecipe
from ...core.units import (
    Units,
    whole_number,
)
from ..words import KindWords

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
