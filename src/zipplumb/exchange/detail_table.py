"""A detail as it was found and as it was left, for pages and reports: its lines, their bars, and how they are spread."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

HEADINGS = (
    "Detail", "Target", "Found X", "Found Y", "Found Z", "Found off", "Left X", "Left Y", "Left Z", "Left off", "Zone",
    "Result",
)  # fmt: skip
IN, OUT, FOUND, LINE, INK = "#0F6B62", "#B93815", "#8C7A58", "#D9D0BE", "#1F2933"
WIDTH, HALF, MOST_ZONES = 160.0, 5.0, 4.0
BINS, LEAST_FOR_SPREAD = 8, 5


@dataclass(frozen=True)
class Lay:
    """Where a target was: deviations along X, Y, Z and their length, as text and in the job's unit."""

    along: tuple[str, str, str]
    off: str
    numbers: tuple[float, ...]
    zones: float  # how many of its zones it was off


@dataclass(frozen=True)
class DetailLine:
    """``left``: None while it is not seen; ``word``: in, out, or to do."""

    name: str
    found: Lay | None
    left: Lay | None
    zone: str
    zone_number: float
    word: str

    @property
    def bar(self) -> str:
        return bar_svg(self.found.zones if self.found else None, self.left.zones if self.left else None)


@dataclass(frozen=True)
class DetailTable:
    """``state``: what is to be said of it, in words."""

    name: str
    state: str
    lines: tuple[DetailLine, ...]

    @property
    def spread(self) -> str:
        """A histogram of how far its targets are off, in zones; nothing for a few."""
        left = [line.left.zones for line in self.lines if line.left]
        return histogram_svg(left) if len(left) >= LEAST_FOR_SPREAD else ""

    def cells(self) -> list[list[str | float | None]]:
        """A line each, under HEADINGS; numbers as numbers."""
        nothing: tuple[None, ...] = (None,) * 4
        return [
            [self.name, line.name, *(line.found.numbers if line.found else nothing),
             *(line.left.numbers if line.left else nothing), line.zone_number, line.word]
            for line in self.lines
        ]  # fmt: skip


def _x(zones: float) -> float:
    return WIDTH * min(zones, MOST_ZONES) / MOST_ZONES


def bar_svg(found: float | None, left: float | None) -> str:
    """How far off in zones: hollow as found, filled as left; the upright line is the end of the zone."""
    parts = [f'<path d="M0 {2 * HALF}H{WIDTH:.0f}" stroke="{LINE}"/>']
    if found is not None:
        parts.append(f'<rect x=".5" y="1" width="{max(_x(found), 1):.1f}" height="{HALF}" fill="none" stroke="{FOUND}"/>')
    if left is not None:
        color = IN if left <= 1 else OUT
        parts.append(f'<rect x="0" y="{HALF + 3}" width="{max(_x(left), 1):.1f}" height="{HALF}" fill="{color}"/>')
    parts.append(f'<path d="M{_x(1):.1f} 0V{4 * HALF - 4}" stroke="{INK}" stroke-dasharray="2 1.5"/>')
    return _drawn(WIDTH, 4 * HALF - 4, parts, "hollow: as found; filled: as left; dashed: the end of its zone")


def histogram_svg(zones: Sequence[float]) -> str:
    """How many targets are how far off, in zones; the last bar has all that are farther."""
    edges = np.linspace(0, MOST_ZONES / 2, BINS + 1)
    counts, _ = np.histogram(np.minimum(zones, edges[-1]), edges)
    step, high = WIDTH / BINS, 48.0
    parts = []
    for place, count in enumerate(counts.tolist()):
        if count:
            tall = high * count / counts.max()
            color = IN if edges[place + 1] <= 1 else OUT
            x, top = place * step, high + 10 - tall
            parts.append(f'<rect x="{x + 1:.1f}" y="{top:.1f}" width="{step - 2:.1f}" height="{tall:.1f}" fill="{color}"/>')
            parts.append(f'<text x="{x + step / 2:.1f}" y="{top - 2:.1f}" text-anchor="middle" font-size="8">{count}</text>')
    end = WIDTH / edges[-1]
    parts.append(f'<path d="M0 {high + 10}H{WIDTH:.0f}M{end:.1f} 4V{high + 14}" stroke="{INK}" fill="none"/>')
    parts.append(f'<text x="{end + 3:.1f}" y="{high + 20}" font-size="8">end of the zone</text>')
    return _drawn(WIDTH, high + 24, parts, "how many targets are how far off")


def _drawn(width: float, height: float, parts: Sequence[str], title: str) -> str:
    size = f'width="{width:.0f}" height="{height:.0f}" viewBox="0 0 {width:.0f} {height:.0f}"'
    return f'<svg xmlns="http://www.w3.org/2000/svg" {size} role="img" aria-label="{title}">{"".join(parts)}</svg>'
