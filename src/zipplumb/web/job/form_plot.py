"""The residuals of a row where they lie: round an axis, over a plane, along a line. One picture, drawn as SVG."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.frames import Array, Indices
from ...core.sheet import MeasuredRecipe, RowResult
from ...core.units import Units, length_text

MOST_DRAWN = 1500  # hits; of more, evenly so many
RADIUS, REACH = 62.0, 26.0  # of the circle, and of the largest residual, in the drawing's own units
WIDE, HIGH = 190.0, 150.0
EVEN = 1e-9


@dataclass(frozen=True)
class Spot:
    """A hit as drawn: where, its sign, its share of the largest residual, and what is said of it."""

    x: float
    y: float
    out: bool
    share: float
    words: str


@dataclass(frozen=True)
class FormPlot:
    """``kind``: round, map or along; ``line``: points of the line through the hits, in order; ``scale``: in words."""

    kind: str
    spots: tuple[Spot, ...]
    line: str
    scale: str
    covered_deg: float | None = None


def form_plot(recipe: MeasuredRecipe, found: RowResult, units: Units) -> FormPlot | None:
    """The picture of a measured row; None where there is nothing to draw yet."""
    fit, feature = found.fit, found.feature
    if fit is None or feature is None or not recipe.plot or fit.spare < 1 or feature.residuals is None:
        return None
    shown = np.unique(np.linspace(0, len(fit.points) - 1, MOST_DRAWN).astype(int))
    local, residuals = fit.local.inverse().points(fit.points[shown]), np.asarray(feature.residuals)[shown]
    largest = max(float(np.abs(residuals).max()), EVEN)
    at, order, covered = _DRAWN[recipe.plot](local, residuals / largest)
    spots = tuple(
        Spot(float(x), float(y), bool(value > 0), float(abs(value) / largest),
             f"Hit {k + 1}: {length_text(float(value), units, sign=True)}")
        for k, (x, y), value in zip(shown.tolist(), at, residuals, strict=True)
    )  # fmt: skip
    line = " ".join(f"{x:.1f},{y:.1f}" for x, y in at[order]) if order is not None else ""
    return FormPlot(recipe.plot, spots, line, length_text(largest, units), covered)


def _round(local: Array, shares: Array) -> tuple[Array, Indices | None, float | None]:
    """Round the axis: out of the circle is out of the material's surface. The third: the angle that the hits cover."""
    turn = np.arctan2(local[:, 1], local[:, 0])
    order = np.argsort(turn).astype(np.int64)
    gaps = np.diff(np.append(turn[order], turn[order[0]] + 2 * np.pi))
    widest = int(np.argmax(gaps))
    order = np.roll(order, -(widest + 1))  # begins behind the widest gap
    way = RADIUS + REACH * shares
    return np.column_stack([way * np.cos(turn), -way * np.sin(turn)]), order, float(360 - np.degrees(gaps[widest]))


def _map(local: Array, shares: Array) -> tuple[Array, Indices | None, float | None]:
    """Over the plane, seen from the air; the size of a spot tells how far off."""
    flat = local[:, :2] - (local[:, :2].min(axis=0) + local[:, :2].max(axis=0)) / 2
    span = np.maximum(np.ptp(flat, axis=0), EVEN)
    scale = min(WIDE / span[0], HIGH / span[1])
    return flat * [scale, -scale], None, None


def _along(local: Array, shares: Array) -> tuple[Array, Indices | None, float | None]:
    """Along the line: up is out."""
    x = local[:, 0] if np.ptp(local[:, 0]) >= np.ptp(local[:, 1]) else local[:, 1]
    x = (x - (x.min() + x.max()) / 2) * WIDE / max(float(np.ptp(x)), EVEN)
    return np.column_stack([x, -2 * REACH * shares]), np.argsort(x).astype(np.int64), None


_DRAWN = {"round": _round, "map": _map, "along": _along}
