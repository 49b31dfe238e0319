"""A report as one HTML file with the part's model in it, which needs nothing else: no server, no network."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .document import Document
from .pdf_file import page_of

MOST_PLACES = 150_000  # of all maps together


@dataclass(frozen=True)
class TagOnModel:
    """A row at its place in the part, mm; ``face``: of the CAD, that it was picked on."""

    row: int
    at: tuple[float, float, float]
    text: str
    word: str
    face: int | None


@dataclass(frozen=True, eq=False)
class MapOnModel:
    """``places``: packed as the stage takes them (docs/formats.md), each ``size`` mm large; ``steps``: where one color ends and
    the next begins; ``words`` of these."""

    row: int
    name: str
    steps: Sequence[float]
    words: Sequence[str]
    size: float
    places: NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class ModelShown:
    """``model``: the packed CAD; ``bodies``: those that are shown, None for all."""

    model: bytes
    bodies: Sequence[int] | None
    tags: Sequence[TagOnModel]
    maps: Sequence[MapOnModel]


def write_page(document: Document, shown: ModelShown) -> bytes:
    """Tables as in print, below the part."""
    each = MOST_PLACES // max(len(shown.maps), 1)
    told = {
        "bodies": None if shown.bodies is None else list(shown.bodies),
        "tags": [vars(tag) for tag in shown.tags],
        "maps": [
            {"row": m.row, "name": m.name, "steps": list(m.steps), "words": list(m.words), "size": m.size * _coarser(m, each)}
            for m in shown.maps
        ],
    }
    packed = {f"map-{m.row}": _packed(_thinned(m.places, each).tobytes()) for m in shown.maps}
    data: dict[str, Any] = {
        "told": _harmless(json.dumps(told)), "packed": {"model": _packed(shown.model), **packed}, "script": _script(),
        "maps": [(m.row, m.name) for m in shown.maps],
    }  # fmt: skip
    return page_of(document, data).encode()


def _thinned(places: NDArray[np.float32], most: int) -> NDArray[np.float32]:
    """Evenly, so many at most."""
    return places if len(places) <= most else places[np.linspace(0, len(places) - 1, most).astype(int)]


def _coarser(shown: MapOnModel, most: int) -> float:
    """How much larger places are drawn where only some of them are."""
    return max(1.0, float(np.sqrt(len(shown.places) / most)))


def _packed(data: bytes) -> str:
    return base64.b64encode(data).decode()


def _harmless(text: str) -> str:
    """JSON that ends no element of the page that it stands in."""
    return text.replace("<", "\\u003c")


@lru_cache(maxsize=1)
def _script() -> str:
    """What turns the part, laid here by the front end's build."""
    return (Path(__file__).parent / "handout" / "handout.js").read_text().replace("</script", "<\\/script")
