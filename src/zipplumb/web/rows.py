"""Rows of the run sheet as HTML, made once for each thing that a row can say.

The same HTML goes to everybody, so a row's template must not ask who looks.
"""

from __future__ import annotations

from weakref import WeakKeyDictionary

from flask import render_template
from markupsafe import Markup

from ..exchange.table import RowText

_made: WeakKeyDictionary[RowText, dict[bool, Markup]] = WeakKeyDictionary()


def row_html(row: RowText, job_id: int, oob: bool = False) -> Markup:
    """One row; ``oob``: to be swapped in for the row that a page shows already. Kept as long as the row's words are."""
    made = _made.setdefault(row, {})
    if oob not in made:
        made[oob] = Markup(render_template("_row.html", row=row, job_id=job_id, oob=oob))
    return made[oob]


def changed_html(row: RowText, was: RowText | None, job_id: int) -> str:
    """One row to be swapped in; nothing where it looks as it did when it was sent last: less is worth showing than changes."""
    sent = None if was is None else _made.get(was, {}).get(True)
    html = row_html(row, job_id, oob=True)
    return "" if html == sent else html
