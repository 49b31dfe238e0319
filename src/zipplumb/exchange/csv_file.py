"""CSV (RFC 4180), UTF-8."""

from __future__ import annotations

import csv
import io

from .table import HEADINGS, RowText, cells

# a spreadsheet runs text that begins like this as a formula
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _harmless(cell):
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(_FORMULA) else cell


def write_csv(rows: list[RowText], units: str) -> bytes:
    """The rows with a heading line; lengths in ``units``, which the headings name."""
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow([*HEADINGS, "Unit"])
    for row in rows:
        writer.writerow([*(_harmless(c) if c is not None else "" for c in cells(row)), units])
    return ("\ufeff" + text.getvalue()).encode()
