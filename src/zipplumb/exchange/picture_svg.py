"""A picture of the part as SVG: the faces as an image, and edges, tags and the scale of a map as lines and text over it."""

from __future__ import annotations

import base64
import io
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass, field
from html import escape

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..core.frames import Array
from .map_table import STEPS

PAPER, SHEET, INK, MUTED, RULE = "#F7F3EA", "#FFFDF7", "#1F2933", "#5B6672", "#B9AF99"
COLOR_OF = {"in": "#0F6B62", "close": "#8A5600", "out": "#B93815", "not proven": "#4A5560"}
WIDE_LETTER, USUAL_LETTER, NARROW_LETTER = 0.88, 0.66, 0.36  # of the height of the type: none is wider
NARROW = frozenset(" .,:;'|!()[]ijlrtfI")
PAD = 0.35  # of the height of the type, round the words of a tag
FONT = "'Atkinson Hyperlegible Next', 'DejaVu Sans', sans-serif"


@dataclass(frozen=True, eq=False)
class TagDrawn:
    """``box``: left, top, width, height; ``port``, ``place``: the ends of its line; ``hidden``: the part is before its place;
    ``row``: by which a page may find it."""

    row: int
    box: Array
    port: Array
    place: Array
    texts: tuple[str, ...]
    word: str
    hidden: bool


@dataclass(frozen=True, eq=False)
class PictureDrawn:
    """All in pixels of a picture ``wide`` by ``high``: the ``image`` (h, w, 3) with its left upper corner at ``at``; ``edges``
    and ``dots`` on that; ``scale``: words of the steps of a map, the largest first; ``left_out``: what found no room."""

    wide: float
    high: float
    at: tuple[float, float]
    image: NDArray[np.uint8]
    edges: Sequence[Array] = ()
    dots: Sequence[Array] = ()
    tags: Sequence[TagDrawn] = ()
    type_px: float = 24.0
    scale: Sequence[str] = ()
    told: str = ""
    about: str = field(default="The part")

    @property
    def alt(self) -> str:
        """What is to be seen, in words."""
        names = ", ".join(" ".join(tag.texts) for tag in self.tags[:60])
        return f"{self.about}{f'. Tags: {names}' if names else ''}"


@dataclass(frozen=True)
class PictureShown:
    """A picture in a report: ``svg``, or ``source`` of one that was kept as it was seen; ``refused``: why it cannot be
    drawn."""

    caption: str
    alt: str
    svg: str
    refused: str = ""
    source: str = ""


def width_of(text: str, type_px: float) -> float:
    """About how wide a text is, never too little."""
    return type_px * sum(map(_letter, text))


def _letter(letter: str) -> float:
    if unicodedata.east_asian_width(letter) in "WF":
        return 1.0
    return NARROW_LETTER if letter in NARROW else WIDE_LETTER if letter in "mwMWOQ@%●◐▲◇○" else USUAL_LETTER


def size_of(texts: Sequence[str], type_px: float) -> tuple[float, float]:
    """Of a tag with these words."""
    words = width_of("  ".join(texts), type_px)
    return words + 2 * PAD * type_px, (1 + 2 * PAD) * type_px


def picture_svg(drawn: PictureDrawn, number: int = 0) -> str:
    """``number``: sets the names in it apart from those of another on the same page."""
    x, y = drawn.at
    high, wide = drawn.image.shape[:2]
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {drawn.wide:.0f} {drawn.high:.0f}" role="img" '
        f'aria-labelledby="picture-{number}" font-family="{FONT}">',
        f'<title id="picture-{number}">{escape(drawn.alt)}</title>',
        f'<rect width="{drawn.wide:.0f}" height="{drawn.high:.0f}" fill="{PAPER}"/>',
        f'<image x="{x:g}" y="{y:g}" width="{wide}" height="{high}" href="{_png(drawn.image)}"/>',
        f'<path transform="translate({x:g} {y:g})" fill="none" stroke="{INK}" stroke-width="1.6" stroke-linejoin="round" '
        f'stroke-linecap="round" d="{"".join(map(_path, drawn.edges))}"/>',
        *(f'<circle cx="{a + x:.1f}" cy="{b + y:.1f}" r="3" fill="{INK}"/>' for a, b in drawn.dots),
        *(_line(tag) for tag in drawn.tags),
        *(_tag(tag, drawn.type_px) for tag in drawn.tags),
        *_scale(drawn),
    ]
    if drawn.told:
        parts.append(_text(drawn.wide / 2, drawn.high - 8, drawn.told, 0.8 * drawn.type_px, MUTED, "middle"))
    return "".join(parts) + "</svg>"


def _png(image: NDArray[np.uint8]) -> str:
    target = io.BytesIO()
    Image.fromarray(image).quantize(128, dither=Image.Dither.NONE).save(target, "PNG", optimize=True)
    return "data:image/png;base64," + base64.b64encode(target.getvalue()).decode()


def _path(line: Array) -> str:
    """Steps from one place to the next, which are short to write."""
    tenths = np.round(10 * line).astype(int)
    steps = np.diff(tenths, axis=0) / 10
    begin = tenths[0] / 10
    return f"M{begin[0]:g} {begin[1]:g}l" + " ".join(f"{a:g} {b:g}" for a, b in steps.tolist())


def _line(tag: TagDrawn) -> str:
    (a, b), (c, d) = tag.port, tag.place
    color = COLOR_OF.get(tag.word, INK)
    dashes = ' stroke-dasharray="5 4"' if tag.hidden else ""
    filled = SHEET if tag.hidden else color
    dot = f'<circle cx="{c:.1f}" cy="{d:.1f}" r="4.5" fill="{filled}" stroke="{color}" stroke-width="1.6"/>'
    return (
        f'<path data-line="{tag.row}" d="M{a:.1f} {b:.1f}L{c:.1f} {d:.1f}" stroke="{SHEET}" stroke-width="4"/>'
        f'<path data-line="{tag.row}" d="M{a:.1f} {b:.1f}L{c:.1f} {d:.1f}" stroke="{color}" stroke-width="1.4"{dashes}/>{dot}'
    )


def _tag(tag: TagDrawn, type_px: float) -> str:
    left, top, wide, high = tag.box
    color = COLOR_OF.get(tag.word, INK)
    words = _text(left + wide / 2, top + high / 2 + 0.36 * type_px, "\u2002".join(tag.texts), type_px, color, "middle", 600)
    return (
        f'<g data-tag="{tag.row}"><rect x="{left:.1f}" y="{top:.1f}" width="{wide:.1f}" height="{high:.1f}" rx="3" '
        f'fill="{SHEET}" stroke="{color}" stroke-width="1.2"/>{words}</g>'
    )


def _scale(drawn: PictureDrawn) -> list[str]:
    """The steps of a map at the right of what is seen, the words of each at its upper end."""
    if not drawn.scale:
        return []
    step, wide = 34.0, 26.0
    x, y = drawn.at[0] + drawn.image.shape[1] - wide - 12, drawn.at[1] + 12
    found = [
        f'<rect x="{x:.1f}" y="{y + k * step:.1f}" width="{wide}" height="{step}" fill="{color}"/>'
        for k, color in enumerate(reversed(STEPS))
    ]
    return found + [
        _text(x - 8, y + (k + 1) * step + 6, words, 20, INK, "end") for k, words in enumerate(drawn.scale)
    ]  # fmt: skip


def _text(x: float, y: float, words: str, px: float, color: str, anchor: str, weight: int = 400) -> str:
    return (
        f'<text x="{x:.1f}" y="{y:.1f}" font-size="{px:.1f}" font-weight="{weight}" text-anchor="{anchor}" fill="{color}">'
        f"{escape(words)}</text>"
    )
