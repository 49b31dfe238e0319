"""A report as JSON: all its tables, as docs/report.schema.json says."""

from __future__ import annotations

import json
import math
from typing import Any

from .document import Cell, DataSheet, Document

FORMAT, VERSION = "zip-plumb-report", 1


def write_json(document: Document) -> bytes:
    """UTF-8; numbers as numbers, null for what is not there."""
    stood = document.stood
    told = {
        "format": FORMAT,
        "version": VERSION,
        "title": document.title,
        "units": {"length": document.units, "angle": "degree"},
        "state": {"number": stood.number, "at": stood.at, "fingerprint": stood.fingerprint, "rule": stood.rule},
        "sections": [
            {"kind": section.kind, "title": section.title, "tables": [_table(sheet) for sheet in section.sheets]}
            for section in document.sections
        ],
    }
    return json.dumps(told, ensure_ascii=False, indent=1, allow_nan=False).encode()


def _table(sheet: DataSheet) -> dict[str, Any]:
    lines = [[_cell(cell) for cell in line] for line in sheet.lines]
    return {"name": sheet.name, "columns": list(sheet.headings), "lines": lines}


def _cell(cell: Cell) -> Cell:
    return None if isinstance(cell, float) and not math.isfinite(cell) else cell
