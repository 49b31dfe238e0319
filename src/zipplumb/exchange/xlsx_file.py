"""XLSX (ISO/IEC 29500)."""

from __future__ import annotations

import io
from collections.abc import Iterable, Sequence
from typing import Any

import xlsxwriter

from ..core.units import UNITS, Units
from . import detail_table, map_table
from .columns import COLUMNS, HEADINGS, lines
from .detail_table import DetailTable
from .map_table import MapTable
from .table import RowText


def write_xlsx(
    rows: list[RowText], units: Units, facts: list[tuple[str, str]], details: Sequence[DetailTable] = (),
    maps: Sequence[MapTable] = (),
) -> bytes:  # fmt: skip
    """A sheet of rows with numbers as numbers, one of details as found and as left, one of the faces of maps, and one of who,
    when and with what."""
    target = io.BytesIO()
    book = xlsxwriter.Workbook(target, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    head = book.add_format({"bold": True, "bottom": 1, "bg_color": "#F7F3EA"})
    number = book.add_format({"num_format": f"0.{'0' * UNITS[units].decimals}"})
    out = book.add_format({"bold": True, "font_color": "#B93815"})

    def add(name: str, headings: Sequence[str], widths: Sequence[int], all_lines: Iterable[Sequence[Any]]) -> None:
        sheet = book.add_worksheet(name)
        sheet.freeze_panes(1, 2)
        for column, (heading, width) in enumerate(zip(headings, widths, strict=True)):
            sheet.write(0, column, heading, head)
            sheet.set_column(column, column, width)
        for number_of_line, line in enumerate(all_lines, start=1):
            for column, cell in enumerate(line):
                if isinstance(cell, float):
                    sheet.write_number(number_of_line, column, cell, number)
                elif cell is not None:
                    sheet.write(number_of_line, column, cell, out if cell == "out" and headings[column] == "Result" else None)

    add("Run sheet", HEADINGS, [column.width for column in COLUMNS], (each for row in rows for each in lines(row)))
    if details:
        widths = [20, 20, *[11] * (len(detail_table.HEADINGS) - 2)]
        add("Details", detail_table.HEADINGS, widths, (line for table in details for line in table.cells()))
    if maps:
        widths = [20, 20, *[13] * (len(map_table.HEADINGS) - 2)]
        add("Surface maps", map_table.HEADINGS, widths, (line for table in maps for line in table.cells()))
    about = book.add_worksheet("About")
    about.set_column(0, 0, 22)
    about.set_column(1, 1, 70)
    for number_of_line, (name, value) in enumerate(facts):
        about.write(number_of_line, 0, name, head)
        about.write_string(number_of_line, 1, value)
    book.close()
    return target.getvalue()
