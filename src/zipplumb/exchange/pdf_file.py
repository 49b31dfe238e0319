"""PDF, by way of a page laid out for print."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, select_autoescape

from ..core.units import UNITS
from .columns import DENSE_HEAD, SHOWN, dense
from .document import Document
from .map_table import STEPS
from .picture_svg import COLOR_OF
from .symbols import SYMBOL_OF, Symbol

MANY_ROWS = 800  # from which on they are set as lines: a table of so many takes minutes
FACES_SHOWN = 24  # of a map, those farthest off
# over the parts that do not speak for themselves; each is a bookmark
HEADINGS = {
    "pictures": "Pictures", "about": "Who, when, with what", "rows": "Rows", "holes": "Holes", "maps": "Surfaces",
    "pieces": "Over all pieces",
    "sections": "Sections", "stations": "Stations", "details": "Details", "notes": "Notes", "signatures": "Signatures",
}  # fmt: skip
TAGGED = "pdf/ua-1"  # ISO 14289-1: reading order, alternative texts, headings


@lru_cache(maxsize=1)
def _templates() -> Environment:
    templates = Environment(loader=PackageLoader("zipplumb.exchange"), autoescape=select_autoescape())
    templates.globals.update(
        symbol=Symbol, symbol_of=SYMBOL_OF, columns=SHOWN, length_units=UNITS, bar=bar, dense=dense, dense_head=DENSE_HEAD
    )
    templates.filters["as_source"] = _as_source
    return templates


@lru_cache(maxsize=1)
def _fonts() -> list[tuple[int, str]]:
    """The application's own type, laid here by the front end's build; the system's where it is not."""
    folder = Path(__file__).parent / "fonts"
    found = [(weight, folder / f"atkinson-hyperlegible-next-latin-{weight}-normal.woff2") for weight in (400, 600)]
    return [(w, "data:font/woff2;base64," + base64.b64encode(p.read_bytes()).decode()) for w, p in found if p.exists()]


BAR_STEPS = 20  # of a tolerance, in which the mark on its bar moves


def bar(share: float, word: str) -> str:
    """Where a deviation lies between its limits, as the address of a small drawing; few of them differ."""
    return _bar(round(share * BAR_STEPS), word)


@lru_cache(maxsize=1024)
def _bar(steps: int, word: str) -> str:
    color, at = COLOR_OF.get(word, COLOR_OF["in"]), 30 + 20 * steps / BAR_STEPS
    return _as_source(
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 60 12"><path d="M1 6H59" stroke="#D9D0BE" stroke-width="1.5"/>'
        f'<path d="M10 0V12M50 0V12" stroke="#1F2933" stroke-width=".8"/><path d="M{at:g} 1.5V10.5" stroke="{color}" '
        'stroke-width="3.5"/></svg>'
    )


def _as_source(svg: str) -> str:
    return "data:image/svg+xml;base64," + base64.b64encode(svg.encode()).decode()


def page_of(document: Document, viewer: Mapping[str, Any] | None = None) -> str:
    """The report as one HTML page, which print and preview are made of; ``viewer``: what shows the part's model in it."""
    stood = document.stood
    foot = f"Report {stood.number}, {stood.at}, state {stood.fingerprint}. {stood.rule}. {document.written}"
    return _templates().get_template("report.html").render(
        title=document.title, sections=document.sections, units=document.units, paper=document.paper, fonts=_fonts(),
        headings=HEADINGS, faces_shown=FACES_SHOWN, foot=foot, viewer=viewer, many_rows=MANY_ROWS, steps=STEPS,
    )  # fmt: skip


def write_pdf(document: Document) -> bytes:
    """Tagged, with a bookmark for every heading."""
    from weasyprint import HTML, urls  # slow to import, and only the worker needs it

    fetcher = urls.URLFetcher(allowed_protocols={"data"})
    return HTML(string=page_of(document), url_fetcher=fetcher).write_pdf(pdf_variant=TAGGED)
