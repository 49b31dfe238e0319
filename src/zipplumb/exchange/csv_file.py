"""CSV (RFC 4180), UTF-8."""

from __future__ import annotations

import csv
import io
import unicodedata
from collections.abc import Iterable
from typing import Any

from .columns import HEADINGS, ROWS
from .document import Document

# a spreadsheet runs text that begins like this as a formula
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _harmless(cell):
    """A text that some spreadsheets take for a formula, also by its full-width sign, marked as the text that it is."""
    if not isinstance(cell, str):
        return cell
    return f"'{cell}" if unicodedata.normalize("NFKC", cell[:1]).startswith(_FORMULA) else cell


def write_csv(document: Document) -> bytes:
    """The rows: a line for every characteristic under a heading line; each names its unit. Of a report without rows, its first
    table."""
    sheets = document.sheets
    sheet = next((each for each in sheets if each.name == ROWS), sheets[0] if sheets else None)
    return table_as_csv(HEADINGS, ()) if sheet is None else table_as_csv(sheet.headings, sheet.lines)


def table_as_csv(headings: Iterable[str], cells: Iterable[Iterable[Any]]) -> bytes:
    """Lines of cells under a heading line; nothing where a cell is None."""
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(headings)
    for line in cells:
        writer.writerow([_harmless(c) if c is not None else "" for c in line])
    return ("\ufeff" + text.getvalue()).encode()
