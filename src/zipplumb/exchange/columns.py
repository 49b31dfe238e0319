"""The columns of the run sheet: in files, where numbers are numbers, and on the sheet and in print, as they are shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from .document import Cell, DataSheet
from .table import CharacteristicText, RowText


@dataclass(frozen=True)
class Column:
    """A column of a file. ``width``: in characters; ``cell``: of a row's line for a characteristic, which is None where the
    row has none, and whether it is the row's first line."""

    heading: str
    width: int
    cell: Callable[[RowText, CharacteristicText | None, bool], Cell]


@dataclass(frozen=True)
class ShownColumn:
    """A column of numbers on the sheet and in print. ``field``: of ``CharacteristicText``; ``look``: a class of its cells."""

    heading: str
    field: str
    look: str = ""


SHOWN = (ShownColumn("Nominal", "nominal"), ShownColumn("Actual", "actual"), ShownColumn("Deviation", "deviation", "dev"))


def _number(heading: str, field: str, width: int = 12) -> Column:
    return Column(heading, width, lambda row, c, first: getattr(c, field) if c else None)


def _word(row: RowText, c: CharacteristicText | None, first: bool) -> str:
    return (c.word if c else "") or (row.word if first else "")


def _remark(row: RowText, c: CharacteristicText | None, first: bool) -> str:
    return " ".join(filter(None, (row.message or row.note, row.told))) if first else ""


COLUMNS = (
    Column("No", 5, lambda row, c, first: row.number),
    Column("Name", 28, lambda row, c, first: row.name),
    Column("Datum", 7, lambda row, c, first: row.datum),
    Column("Quantity", 16, lambda row, c, first: c.label if c else row.line),
    _number("Nominal", "nominal_value"),
    _number("Actual", "actual_value"),
    _number("Deviation", "deviation_value"),
    _number("Lower limit", "lower_value"),
    _number("Upper limit", "upper_value"),
    Column("Result", 12, _word),
    Column("Out by", 12, lambda row, c, first: (c.out_by or None) if c else None),
    _number("U (k=2)", "uncertainty_value", 10),
    Column("Unit", 6, lambda row, c, first: c.unit if c else ""),
    Column("Hits", 6, lambda row, c, first: row.hits or None),
    Column("Remark", 48, _remark),
)
ROWS = "Run sheet"  # the table's name
HEADINGS = tuple(column.heading for column in COLUMNS)


def lines(row: RowText) -> list[list[Cell]]:
    """A row's lines under COLUMNS, one for each characteristic."""
    return [[column.cell(row, c, k == 0) for column in COLUMNS] for k, c in enumerate(row.characteristics or (None,))]


DENSE = "{:>5} {:<23.23} {:<14.14} {:>11} {:>11} {:>10} {:>16} {:>7}  {}"
DENSE_HEAD = DENSE.format("No", "Feature", "Quantity", "Nominal", "Actual", "Deviation", "Limits", "U", "Result")


def dense(row: RowText) -> list[str]:
    """A row as lines of one width, under DENSE_HEAD: where thousands are printed."""
    told = row.characteristics or (None,)
    return [_dense(row, c, k == 0) for k, c in enumerate(told) if k == 0 or (c is not None and c.actual)]


def _dense(row: RowText, c: CharacteristicText | None, first: bool) -> str:
    number, name = (str(row.number), row.name) if first else ("", "")
    word, shape = (row.word, row.shape) if first else (c.word, c.shape) if c else ("", "")
    label, nominal, actual, deviation, limits, uncertainty = (
        (c.label, c.nominal, c.actual, c.deviation, c.tolerance, c.uncertainty) if c else (row.line, "", "", "", "", "")
    )
    by = f" by {row.out_by}" if first and row.word == "out" and row.out_by else ""
    said = f"{shape} {word}{by}"
    return DENSE.format(number, name, label, nominal, actual, deviation, limits, uncertainty, said).rstrip()


def rows_sheet(rows: Iterable[RowText]) -> DataSheet:
    """Rows as a table."""
    return DataSheet(ROWS, HEADINGS, tuple(column.width for column in COLUMNS), [each for row in rows for each in lines(row)])
