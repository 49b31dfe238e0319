"""XLSX (ISO/IEC 29500)."""

from __future__ import annotations

import io

import xlsxwriter

from .table import HEADINGS, RowText, cells

WIDTHS = (5, 28, 7, 11, 12, 12, 12, 12, 12, 12, 12, 10, 6, 48)


def write_xlsx(rows: list[RowText], units: str, facts: list[tuple[str, str]]) -> bytes:
    """A sheet of rows with numbers as numbers, and a sheet of who, when and with what."""
    target = io.BytesIO()
    book = xlsxwriter.Workbook(target, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    head = book.add_format({"bold": True, "bottom": 1, "bg_color": "#F7F3EA"})
    number = book.add_format({"num_format": "0.000" if units == "mm" else "0.0000"})
    out = book.add_format({"bold": True, "font_color": "#B93815"})
    sheet = book.add_worksheet("Run sheet")
    sheet.freeze_panes(1, 2)
    for column, (heading, width) in enumerate(zip(HEADINGS, WIDTHS, strict=True)):
        lengths = heading in ("Nominal", "Actual", "Deviation", "Lower limit", "Upper limit", "U (k=2)", "Out by")
        sheet.write(0, column, f"{heading} ({units})" if lengths else heading, head)
        sheet.set_column(column, column, width)
    for line, row in enumerate(rows, start=1):
        for column, cell in enumerate(cells(row)):
            if isinstance(cell, float):
                sheet.write_number(line, column, cell, number)
            elif cell is not None:
                sheet.write(line, column, cell, out if row.word == "out" and HEADINGS[column] == "Result" else None)
    about = book.add_worksheet("About")
    about.set_column(0, 0, 22)
    about.set_column(1, 1, 70)
    for line, (name, value) in enumerate(facts):
        about.write(line, 0, name, head)
        about.write_string(line, 1, value)
    book.close()
    return target.getvalue()
