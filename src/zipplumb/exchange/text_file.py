"""A report as plain text in columns."""

from __future__ import annotations

from ..core.units import marked
from .document import Cell, DataSheet, Document

GAP = "  "
PLACES = 6


def write_text(document: Document) -> bytes:
    """Each of its tables under its name; numbers to the right, words to the left. UTF-8."""
    stood = document.stood
    found = [document.title, "=" * len(document.title)]
    found += [f"Report {stood.number}, {stood.at}, state {stood.fingerprint}"]
    found += [f"Decided by {stood.rule}. Lengths in {document.written}."]
    for sheet in document.sheets:
        found += ["", sheet.name, "-" * len(sheet.name), *_lines(sheet)]
    return ("\n".join(found) + "\n").encode()


def _lines(sheet: DataSheet) -> list[str]:
    cells = [[_text(cell) for cell in line] for line in sheet.lines]
    wide = [max(map(len, column)) for column in zip(sheet.headings, *cells, strict=True)]
    right = [any(isinstance(line[k], (int, float)) for line in sheet.lines) for k in range(len(sheet.headings))]
    return [
        GAP.join(text.rjust(w) if r else text.ljust(w) for text, w, r in zip(line, wide, right, strict=True)).rstrip()
        for line in (sheet.headings, *cells)
    ]


def _text(cell: Cell) -> str:
    if cell is None:
        return ""
    if isinstance(cell, float):
        return marked(f"{cell:.{PLACES}f}".rstrip("0").rstrip("."))
    return " ".join(str(cell).split())
