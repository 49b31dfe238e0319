"""XLSX (ISO/IEC 29500)."""

from __future__ import annotations

import io
from typing import Any

import xlsxwriter

from ..core.units import UNITS
from .document import Cell, Chart, DataSheet, Document

CHARTED = 200  # lines that a chart shows at the most


def write_xlsx(document: Document) -> bytes:
    """A sheet for each table, numbers as numbers, with its charts, and one that says of which state it is."""
    target = io.BytesIO()
    book = xlsxwriter.Workbook(target, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"title": document.title, "comments": f"State {document.stood.fingerprint}"})
    formats = {
        "head": book.add_format({"bold": True, "bottom": 1, "bg_color": "#F7F3EA"}),
        "number": book.add_format({"num_format": f"0.{'0' * document.numbers.of(document.units)}"}),
        "out": book.add_format({"bold": True, "font_color": "#B93815"}),
    }
    for sheet in (*document.sheets, _state(document)):
        _write(book, sheet, formats)
    book.close()
    return target.getvalue()


def _state(document: Document) -> DataSheet:
    stood = document.stood
    lines: list[list[Cell]] = [
        ["Report", document.title], ["Number", float(stood.number)], ["Made at", stood.at], ["State", stood.fingerprint],
        ["Decided by", stood.rule], ["Lengths in", UNITS[document.units].spelled],
    ]  # fmt: skip
    return DataSheet("State", ("What", "Told"), (22, 70), lines)


def _write(book: Any, sheet: DataSheet, formats: dict[str, Any]) -> None:
    page = book.add_worksheet(sheet.name)
    page.freeze_panes(1, min(2, len(sheet.headings) - 1))
    for column, (heading, width) in enumerate(zip(sheet.headings, sheet.widths, strict=True)):
        page.write(0, column, heading, formats["head"])
        page.set_column(column, column, width)
    for number, line in enumerate(sheet.lines, start=1):
        for column, cell in enumerate(line):
            if isinstance(cell, float):
                page.write_number(number, column, cell, formats["number"])
            elif cell is not None:
                is_out = cell == "out" and sheet.headings[column] == "Result"
                page.write(number, column, cell, formats["out"] if is_out else None)
    for place, chart in enumerate(sheet.charts):
        page.insert_chart(1 + 16 * place, len(sheet.headings) + 1, _chart(book, sheet, chart))


def _chart(book: Any, sheet: DataSheet, chart: Chart) -> Any:
    """Points over the lines, and no line between them: what lies beside one another need not be neighbours."""
    drawn, last = book.add_chart({"type": "column"}), min(len(sheet.lines), CHARTED)
    for column in chart.columns:
        drawn.add_series({
            "name": [sheet.name, 0, column], "categories": [sheet.name, 1, chart.names, last, chart.names],
            "values": [sheet.name, 1, column, last, column],
        })  # fmt: skip
    drawn.set_title({"name": chart.title})
    drawn.set_size({"width": 640, "height": 300})
    return drawn
