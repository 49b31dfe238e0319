"""A run chart: what was found of each piece, in order, with limits, mean and how sure each is; one drawing, as SVG."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from .picture_svg import COLOR_OF

WIDE, HIGH = 640.0, 170.0  # in its own units
LEFT, RIGHT, TOP, BOTTOM = 66.0, 66.0, 12.0, 26.0
ROOM = 0.08  # of the height, over what is highest and under what is lowest
MOST_NAMES = 24  # of pieces under it; of more, evenly so many
INK, MUTED, RULE, ZONE = "#1F2933", "#5B6672", "#D9D0BE", "#F4ECDB"


@dataclass(frozen=True)
class RunPoint:
    """Of one piece; ``U`` None where it is not known."""

    piece: str
    value: float
    U: float | None
    word: str


@dataclass(frozen=True)
class RunLine:
    """A level, and what is written beside it."""

    at: float
    words: str


def run_chart(
    points: Sequence[tuple[int, RunPoint]], pieces: Sequence[str], limits: Sequence[RunLine], mean: RunLine, alt: str
) -> str:  # fmt: skip
    """``points``: place of the piece among ``pieces``, and what was found; all numbers as they are shown."""
    reach = [p.value + sign * (p.U or 0) for _, p in points for sign in (-1, 1)] + [line.at for line in (*limits, mean)]
    low, high = min(reach), max(reach)
    room = ROOM * (high - low) or abs(high) or 1.0
    low, high = low - room, high + room
    step = (WIDE - LEFT - RIGHT) / max(len(pieces), 1)

    def x(at: int) -> float:
        return LEFT + step * (at + 0.5)

    def y(value: float) -> float:
        return TOP + (HIGH - TOP - BOTTOM) * (high - value) / (high - low)

    drawn = [_zone([y(line.at) for line in limits])]
    drawn += [_level(y(line.at), line.words, INK, LEFT - 6, "end") for line in limits]
    drawn.append(_level(y(mean.at), mean.words, MUTED, WIDE - RIGHT + 6, "start", "5 4"))
    drawn.append(f'<text x="{WIDE - RIGHT + 6:g}" y="{y(mean.at) - 8:.1f}" font-size="11" fill="{MUTED}">mean</text>')
    path = "L".join(f"{x(at):.1f} {y(p.value):.1f}" for at, p in points)
    drawn.append(f'<path d="M{path}" stroke="{MUTED}" stroke-width="1"/>')
    drawn += [_bar(x(at), y(p.value - p.U), y(p.value + p.U)) for at, p in points if p.U]
    drawn += [_point(x(at), y(p.value), p) for at, p in points]
    every = -(-len(pieces) // MOST_NAMES)
    drawn += [_name(x(at), piece, step * every) for at, piece in enumerate(pieces) if at % every == 0]
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE:g} {HIGH:g}" role="img" fill="none">'
        f"<title>{escape(alt)}</title>{''.join(drawn)}</svg>"
    )


def _zone(levels: Sequence[float]) -> str:
    """Between two limits, or from one to the edge."""
    if len(levels) != 2:
        return ""
    return f'<path d="M{LEFT} {levels[0]:.1f}H{WIDE - RIGHT}V{levels[1]:.1f}H{LEFT}Z" fill="{ZONE}"/>'


def _level(at: float, words: str, color: str, x: float, anchor: str, dashes: str = "") -> str:
    dashed = f' stroke-dasharray="{dashes}"' if dashes else ""
    return (
        f'<path d="M{LEFT} {at:.1f}H{WIDE - RIGHT}" stroke="{color}" stroke-width="1.2"{dashed}/>'
        f'<text x="{x:g}" y="{at + 3.6:.1f}" text-anchor="{anchor}" font-size="11" fill="{color}">{escape(words)}</text>'
    )


def _bar(at: float, low: float, high: float) -> str:
    ends = f"M{at - 3:.1f} {low:.1f}h6M{at - 3:.1f} {high:.1f}h6"
    return f'<path d="M{at:.1f} {low:.1f}V{high:.1f}{ends}" stroke="{INK}" stroke-width="1"/>'


SHAPES = {
    "out": "M{x:.1f} {top:.1f}l5.5 9.5h-11Z",
    "not proven": "M{x:.1f} {top:.1f}l5 5.5l-5 5.5l-5 -5.5Z",
}  # as the symbols of these words


def _point(x: float, y: float, point: RunPoint) -> str:
    color = COLOR_OF.get(point.word, INK)
    told = f"<title>{escape(point.piece)}</title>"
    if point.word in SHAPES:
        filled = color if point.word == "out" else "#FFFDF7"
        shape = SHAPES[point.word].format(x=x, top=y - 6)
        return f'<path d="{shape}" fill="{filled}" stroke="{color}" stroke-width="1.4">{told}</path>'
    filled = "#FFFDF7" if point.word == "close" else color
    return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="4" fill="{filled}" stroke="{color}" stroke-width="1.6">{told}</circle>'


def _name(at: float, piece: str, wide: float) -> str:
    most = max(int(wide / 6.5), 1)
    short = piece if len(piece) <= most else "…" + piece[-most:]
    return f'<text x="{at:.1f}" y="{HIGH - 8:g}" text-anchor="middle" font-size="11" fill="{MUTED}">{escape(short)}</text>'
