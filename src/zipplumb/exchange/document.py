"""A report, put together: what every way of writing it down starts from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from ..core.units import USUAL_NUMBERS, NumberStyle, Units

Paper = Literal["A4", "Letter"]
Cell = str | float | int | None


@dataclass(frozen=True)
class Chart:
    """Of a data sheet: columns of numbers (by their index) over the lines, and what the chart is called."""

    title: str
    columns: tuple[int, ...]
    names: int


@dataclass(frozen=True)
class DataSheet:
    """A table as other programs want it: numbers as numbers. ``widths``: in characters; ``name``: no longer than 31 letters."""

    name: str
    headings: tuple[str, ...]
    widths: tuple[int, ...]
    lines: Sequence[Sequence[Cell]]
    charts: tuple[Chart, ...] = ()


@dataclass(frozen=True)
class Section:
    """A part of a report. ``kind``: names its template; ``shown``: what that is filled with; ``sheets``: its numbers."""

    kind: str
    title: str
    shown: Any = None
    sheets: tuple[DataSheet, ...] = ()


@dataclass(frozen=True)
class Stood:
    """Of which state of the job it is. ``number``: of the report in its job; ``at``: when, in words; ``fingerprint``: of
    recipes and readings; ``rule``: by which it was decided."""

    number: int
    at: str
    fingerprint: str
    rule: str


def marked_as(numbers: NumberStyle, units: Units) -> str:
    """The last decimal, as it is written: 0.001."""
    digits = numbers.of(units)
    return f"{10**-digits:.{digits}f}".replace(".", numbers.mark)


@dataclass(frozen=True)
class Document:
    title: str
    units: Units
    sections: Sequence[Section]
    stood: Stood
    paper: Paper = "A4"
    numbers: NumberStyle = USUAL_NUMBERS

    @property
    def written(self) -> str:
        """How its numbers are written, for its foot."""
        return f"{self.units} to {marked_as(self.numbers, self.units)}"

    @property
    def sheets(self) -> list[DataSheet]:
        """Of all sections, each name once: what several sections hold under one name follows on."""
        found: dict[str, DataSheet] = {}
        for sheet in (sheet for section in self.sections for sheet in section.sheets):
            before = found.get(sheet.name)
            lines = sheet.lines if before is None else [*before.lines, *sheet.lines]
            found[sheet.name] = DataSheet(sheet.name, sheet.headings, sheet.widths, lines, sheet.charts)
        return list(found.values())
