"""Lists of points as text: a point a line, its numbers between blanks, tabs, commas or semicolons."""

from __future__ import annotations

from collections.abc import Iterator
from io import StringIO
from itertools import chain, islice
from pathlib import Path
from typing import TextIO

import numpy as np

from .blocks import BLOCK, Array, Block, Opened, bad, in_unit, must_say_unit

HEAD, LOOKED_AT = 50, 200  # lines before the first point at most; points by which columns are told
LONGEST = 4096  # characters of a line
UNIT_LENGTH = 0.02  # by which a normal's length is off 1 at most


def opened(path: Path, unit_mm: float) -> Opened:
    """Columns: x, y, z; then brightness, a normal, or a colour. Lines before the first point, and those that begin with #, are
    passed over."""
    must_say_unit(unit_mm)
    file = path.open(encoding="utf-8-sig", errors="replace", newline=None)
    first, at = _first(file)
    return Opened(0, _blocks(file, first, at, unit_mm))


def _first(file: TextIO) -> tuple[str, int]:
    """The first line with a point, and its number."""
    for number, line in enumerate(islice(iter(lambda: file.readline(LONGEST), ""), HEAD), start=1):
        if _numbers(line) is not None:
            return line, number
    raise bad("There is no point in its first lines: each needs x, y and z at least.")


def _separator(line: str) -> str | None:
    """None: blanks."""
    return next((mark for mark in (";", ",") if mark in line), None)


def _numbers(line: str) -> list[float] | None:
    """Of a line with a point; None of another, as a head or a count."""
    mark = _separator(line)
    texts = [text for text in (_pointed(line, mark).split(mark)) if text.strip()]
    try:
        found = [float(text) for text in texts]
    except ValueError:
        return None
    return found if len(found) >= 3 and np.isfinite(found[:3]).all() else None


def _pointed(line: str, mark: str | None) -> str:
    """Between semicolons a comma is a decimal point."""
    return line.replace(",", ".") if mark == ";" else line


def _blocks(file: TextIO, first: str, number: int, unit_mm: float) -> Iterator[Block]:
    mark, columns = _separator(first), None
    with file:
        waiting: str = first
        while waiting or (waiting := file.readline()):
            lines = chain([waiting], islice(file, BLOCK - 1))
            text = StringIO("".join(_pointed(line, mark) for line in lines)) if mark == ";" else lines
            try:
                rows = np.loadtxt(text, delimiter=mark, comments="#", ndmin=2)
            except ValueError as error:
                raise bad(f"From line {number} on it could not be read as points ({error}).") from error
            if len(rows):
                columns = columns or _columns(rows[:LOOKED_AT])
                yield _block(rows, columns, unit_mm)
            number, waiting = number + BLOCK, ""


def _columns(rows: Array) -> tuple[int | None, slice | None, slice | None]:
    """Where brightness, a normal and a colour stand."""
    count = rows.shape[1]
    bright = 3 if count in (4, 7) else None
    rest = slice(4, 7) if count == 7 else slice(3, 6)
    if count < 6:
        return bright, None, None
    lengths = np.linalg.norm(rows[:, rest], axis=1)
    return (bright, rest, None) if (np.abs(lengths - 1) < UNIT_LENGTH).all() else (bright, None, rest)


def _block(rows: Array, columns: tuple[int | None, slice | None, slice | None], unit_mm: float) -> Block:
    good = np.isfinite(rows[:, :3]).all(axis=1)
    rows = rows[good]
    bright, normal, color = columns
    shine = rows[:, bright] if bright is not None else rows[:, color].mean(axis=1) if color is not None else None
    return Block(
        unit_mm * rows[:, :3], None if shine is None else in_unit(shine), None if normal is None else rows[:, normal]
    )  # fmt: skip
