"""PDF, by way of a page laid out for print."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

from jinja2 import Environment, PackageLoader, select_autoescape

from ..core.units import UNITS
from .columns import SHOWN
from .detail_table import DetailTable
from .map_table import MapTable
from .pictures import is_picture
from .symbols import Symbol
from .table import RowText

FACES_SHOWN = 24  # of a map, those farthest off


@lru_cache(maxsize=1)
def _templates() -> Environment:
    templates = Environment(loader=PackageLoader("zipplumb.exchange"), autoescape=select_autoescape())
    templates.globals.update(symbol=Symbol, columns=SHOWN, length_units=UNITS)
    return templates


@lru_cache(maxsize=1)
def _fonts() -> list[tuple[int, str]]:
    """The application's own type, laid here by the front end's build; the system's where it is not."""
    folder = Path(__file__).parent / "fonts"
    found = [(weight, folder / f"atkinson-hyperlegible-next-latin-{weight}-normal.woff2") for weight in (400, 600)]
    return [(w, "data:font/woff2;base64," + base64.b64encode(p.read_bytes()).decode()) for w, p in found if p.exists()]


def _source(png: bytes) -> str:
    return "data:image/png;base64," + base64.b64encode(png).decode()


def write_pdf(
    title: str, rows: list[RowText], units: str, facts: list[tuple[str, str]], pictures: list[tuple[bytes, str]],
    details: Sequence[DetailTable] = (), maps: Sequence[MapTable] = (),
) -> bytes:  # fmt: skip
    """The report: pictures, facts, the rows with their bars, maps, and details as they were found and left."""
    from weasyprint import HTML, urls  # slow to import, and only the worker needs it

    shown = [(_source(png) if is_picture(png) else "", caption) for png, caption in pictures]
    counts = {word: sum(r.word == word for r in rows) for word in ("in", "close", "out", "not proven", "to do")}
    page = _templates().get_template("report.html")
    html = page.render(
        title=title, rows=rows, units=units, facts=facts, pictures=shown, counts=counts, fonts=_fonts(), details=details,
        maps=maps, faces_shown=FACES_SHOWN,
    )  # fmt: skip
    return HTML(string=html, url_fetcher=urls.URLFetcher(allowed_protocols={"data"})).write_pdf()
