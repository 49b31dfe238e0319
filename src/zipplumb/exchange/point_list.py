"""Lists of points as they come from drawings, tables and other instruments: a name, x, y, z, and maybe a direction i, j, k.

Commas, semicolons, tabs or blanks between them; a decimal point, or a decimal comma where commas do not separate; with
a header line or without. What does not read is named by its line; nothing is guessed and nothing left out.
"""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from ..core.units import UNITS, Units

MOST_POINTS, LONGEST_NAME, FARTHEST_MM = 5000, 80, 1e6
SEPARATORS = {";": "semicolons", "\t": "tabs", ",": "commas", " ": "blanks"}
COLUMNS = ("name", "x", "y", "z", "i", "j", "k")
_CALLED = {
    "name": "name", "point": "name", "id": "name", "label": "name", "no": "name", "nr": "name", "x": "x", "y": "y", "z": "z",
    "i": "i", "j": "j", "k": "k", "nx": "i", "ny": "j", "nz": "k",
}  # fmt: skip
_NUMBER = re.compile(r"^[+-]?(\d+\.?\d*|\.\d+)([eEdD][+-]?\d{1,3})?$", re.ASCII)
_EXPONENTS = str.maketrans("dD", "ee")  # of programs in Fortran


@dataclass(frozen=True)
class ListedPoint:
    """A point of a list, mm; ``normal`` out of the material, where the list tells it."""

    line: int
    name: str
    at: tuple[float, float, float]
    normal: tuple[float, float, float] | None = None


@dataclass(frozen=True)
class Fault:
    """An error in a line, and the line as it came."""

    line: int
    words: str
    text: str


@dataclass(frozen=True)
class PointList:
    """``how``: how it was read, in words."""

    points: tuple[ListedPoint, ...]
    faults: tuple[Fault, ...]
    how: str

    def refused(self, faults: Iterable[Fault]) -> PointList:
        """With more faults, in the order of their lines."""
        return replace(self, faults=tuple(sorted((*self.faults, *faults), key=lambda f: f.line)))


def text_of(data: bytes) -> str:
    """The text of a file: UTF-16 or UTF-8 where it says or proves so, else as old tables are written (Windows-1252)."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", errors="replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


def read_points(text: str, units: Units) -> PointList:
    """Read a list whose lengths are in ``units``."""
    lines = [(k, line.strip()) for k, line in enumerate(text.splitlines(), start=1)]
    lines = [(k, line) for k, line in lines if line and not line.startswith("#")]
    if not lines:
        return PointList((), (Fault(1, "The list is empty.", ""),), "nothing")
    if len(lines) > MOST_POINTS + 1:
        words = f"The list has {len(lines)} lines; {MOST_POINTS} points are the most."
        return PointList((), (Fault(lines[MOST_POINTS][0], words, ""),), "nothing")
    separator = max(SEPARATORS, key=lambda s: sum(_looks_right(_cells(line, s), s) for _, line in lines))
    columns, header = _columns(_cells(lines[0][1], separator), separator)
    points: list[ListedPoint] = []
    faults: list[Fault] = []
    seen: dict[str, int] = {}
    for number, line in lines[1:] if header else lines:
        try:
            point = _point(number, _cells(line, separator), columns, separator, units, len(points) + len(faults) + 1)
            if point.name in seen:
                raise ValueError(f"“{point.name}” is the name of line {seen[point.name]} already")
            seen[point.name] = number
            points.append(point)
        except ValueError as error:
            faults.append(Fault(number, f"{str(error)[0].upper()}{str(error)[1:]}.", line[:80]))
    if not points and not faults:
        faults.append(Fault(lines[0][0], "There is a header, and no point below it.", lines[0][1][:80]))
    mark = "decimal point" if separator == "," else "decimal point or comma"
    how = f"{SEPARATORS[separator]} between the columns, {mark}, {'a header line' if header else 'no header line'}"
    return PointList(tuple(points), tuple(faults), how)


def _cells(line: str, separator: str) -> list[str]:
    if separator == " ":
        return line.split()
    return [cell.strip() for cell in next(csv.reader([line], delimiter=separator))]


def _number(cell: str, separator: str) -> float | None:
    plain = (cell if separator == "," else cell.replace(",", ".", 1)).replace("−", "-")
    return float(plain.translate(_EXPONENTS)) if _NUMBER.match(plain) else None


def _looks_right(cells: Sequence[str], separator: str) -> bool:
    numbers = sum(_number(cell, separator) is not None for cell in cells)
    return (numbers >= 3 and len(cells) - numbers <= 1) or _header(cells).keys() >= {"x", "y", "z"}


def _columns(cells: Sequence[str], separator: str) -> tuple[dict[str, int] | None, bool]:
    """Where each column stands as the header says (None: in the usual order), and whether the first line is a header."""
    called = _header(cells)
    if {"x", "y", "z"} <= called.keys():
        return called, True
    numbers = [_number(cell, separator) for cell in cells[1:]]
    return None, len(cells) > 2 and all(n is None for n in numbers)


def _header(cells: Sequence[str]) -> dict[str, int]:
    """Columns that a line calls by their names, and where they stand."""
    return {_CALLED[word]: k for k, cell in reversed(list(enumerate(cells))) if (word := _word(cell)) in _CALLED}


def _word(cell: str) -> str:
    """A header's word without its unit: "X (mm)" is x."""
    return re.split(r"[\s(\[/]", cell.strip().lower(), maxsplit=1)[0].strip(".:")


def _point(
    line: int, cells: list[str], columns: dict[str, int] | None, separator: str, units: Units, count: int
) -> ListedPoint:
    if columns is None:
        named = len(cells) in (4, 7)
        if len(cells) not in (3, 4, 6, 7):
            raise ValueError(f"it has {len(cells)} columns; a name, x, y, z make four, with i, j, k seven")
        columns = {c: k for k, c in enumerate(COLUMNS if named else COLUMNS[1:]) if k < len(cells)}
    values = {c: cells[k] if k < len(cells) else "" for c, k in columns.items()}
    name = values.get("name", f"Point {count}")
    if not name:
        raise ValueError("it has no name")
    if len(name) > LONGEST_NAME:
        raise ValueError(f"its name has more than {LONGEST_NAME} letters")
    factor = UNITS[units].mm
    x, y, z = (_length(values[c], c, separator, factor) for c in "xyz")
    told = [values.get(c, "") for c in "ijk"]
    if not any(told):
        return ListedPoint(line, name, (x, y, z))
    if not all(told):
        raise ValueError("of i, j, k some are missing")
    i, j, k = (_plain(values[c], c, separator) for c in "ijk")
    length = math.hypot(i, j, k)
    if not 0.9 < length < 1.1:
        raise ValueError(f"its direction i, j, k has the length {length:.3g}, not 1")
    return ListedPoint(line, name, (x, y, z), (i / length, j / length, k / length))


def _length(cell: str, column: str, separator: str, factor: float) -> float:
    value = factor * _plain(cell, column, separator)
    if abs(value) > FARTHEST_MM:
        raise ValueError(f"its {column} is beyond a kilometre")
    return value


def _plain(cell: str, column: str, separator: str) -> float:
    value = _number(cell, separator)
    if value is None or not math.isfinite(value):
        raise ValueError(f"its {column} is “{cell[:20]}”, which is no number" if cell else f"its {column} is missing")
    return value
