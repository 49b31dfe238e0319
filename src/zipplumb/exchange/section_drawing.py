"""A section through a scan, drawn flat: the CAD's curve, the scan, whiskers and the zone, for pages and reports."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..core.frames import Array

WIDE, HIGH, MARGIN = 620.0, 300.0, 14.0  # of the drawing, in its own units
INK, SEEN, WHISKER, ZONE = "#1F2933", "#155E75", "#C56A2B", "#8C7A58"


@dataclass(frozen=True, eq=False)
class SectionDrawn:
    """Lines as SVG draws them. ``at``: (n, 2) where each point of the scan lies on the drawing."""

    wide: float
    high: float
    at: Array
    nominals: list[str]
    zone: list[str]
    whiskers: str
    times: float
    axes: tuple[str, str]

    @property
    def points(self) -> str:
        return "".join(f"M{x:g} {y:g}h0" for x, y in self.at)

    @property
    def told(self) -> str:
        """What its lines are."""
        axes = f"{self.axes[0]} to the right, {self.axes[1]} up. " if self.axes[0] else ""
        if not self.nominals:
            return f"{axes}As it was scanned."
        zone = ", and so is the zone" if self.zone else ""
        return f"{axes}Ink: the CAD. Dots: the scan. Whiskers are {self.times:g} times as long as it is off{zone}."

    @property
    def svg(self) -> str:
        """By itself, as a document has it."""
        lines = [f'<polyline points="{each}" stroke="{ZONE}" stroke-width="0.8" stroke-dasharray="4 3"/>' for each in self.zone]
        lines += [f'<polyline points="{each}" stroke="{INK}" stroke-width="1.2"/>' for each in self.nominals]
        return (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {self.wide:.0f} {self.high:.0f}" fill="none">'
            f"{''.join(lines)}"
            f'<path d="{self.whiskers}" stroke="{WHISKER}" stroke-width="0.7"/>'
            f'<path d="{self.points}" stroke="{SEEN}" stroke-width="2" stroke-linecap="round"/></svg>'
        )


def drawn_flat(
    points: Array, nominals: Sequence[Array], zone: Sequence[Array], whiskers: Array, times: float, axes: tuple[str, str]
) -> SectionDrawn:
    """``points`` (n, 2), ``nominals`` and ``zone`` lines (m, 2), ``whiskers`` (k, 2, 2), in mm to the right and up."""
    every = np.vstack([points, whiskers.reshape(-1, 2), *zone])
    low, size = every.min(axis=0), np.maximum(np.ptp(every, axis=0), 1e-6)
    scale = float(min((WIDE - 2 * MARGIN) / size[0], (HIGH - 2 * MARGIN) / size[1]))
    high = size[1] * scale + 2 * MARGIN

    def drawn(places: Array) -> Array:
        on = (places - low) * scale + MARGIN
        return np.round(np.column_stack([on[:, 0], high - on[:, 1]]), 1)

    def line(places: Array) -> str:
        return " ".join(f"{x:g},{y:g}" for x, y in drawn(places))

    ends = drawn(whiskers.reshape(-1, 2)).reshape(-1, 2, 2)
    return SectionDrawn(
        size[0] * scale + 2 * MARGIN, high, drawn(points), [line(each) for each in nominals], [line(each) for each in zone],
        "".join(f"M{a[0]:g} {a[1]:g}L{b[0]:g} {b[1]:g}" for a, b in ends), times, axes,
    )  # fmt: skip
