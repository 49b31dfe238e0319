"""Which shape was touched? Candidates in order, with how sure.

Every shape that the hits can carry is fitted and weighed by its description length: what it
leaves unexplained, in units of the hits' uncertainty, against how much agreement it explains
beyond its own freedoms. A shape with as many freedoms as it explains (three hits on a circle)
has earned nothing, so the simpler one goes first.
Source of the principle: J. Rissanen, "Modeling by shortest data description", Automatica 14
(1978).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from ..errors import FitError
from ..frames import Array
from .api import LEAST, fit
from .flat import principal_axes
from .result import FitResult

SPATIAL = ("point", "line", "plane", "sphere", "cylinder", "cone")
FLAT = ("point", "line", "circle", "ellipse", "round_slot")
FREEDOMS = {
    "point": 3, "line": 4, "plane": 3, "circle": 6, "sphere": 4, "cylinder": 5, "cone": 6, "ellipse": 8, "round_slot": 8,
}  # fmt: skip
AGREES = {"point": 3, "line": 2, "circle": 2, "ellipse": 2, "round_slot": 2}
SIMPLER = 1e-3  # settles exact ties for the shape with fewer freedoms
TIE = 0.2  # two candidates whose beliefs differ by less are a tie


@dataclass(frozen=True, eq=False)
class Candidate:
    """A shape that the hits may be: its fit, and the share of belief that it has (0 to 1)."""

    kind: str
    result: FitResult
    sure: float


@dataclass(frozen=True, eq=False)
class Recognition:
    """Candidates, the likeliest first. ``tie``: the first two cannot be told apart yet."""

    candidates: tuple[Candidate, ...]
    tie: bool

    @property
    def best(self) -> Candidate:
        return self.candidates[0]


def recognise(hits: ArrayLike, dimension: Literal["3d", "2d"] = "3d", u_hit_mm: float = 0.015) -> Recognition:
    """Propose what a few hits are.

    Parameters
    ----------
    hits : (n, 3) array, mm
    dimension : "3d" for surfaces, "2d" for outlines in the plane of the hits
    u_hit_mm : standard uncertainty of one hit

    Raises
    ------
    FitError
        No hit at all, or hits that are no numbers.
    """
    points = np.asarray(hits, float).reshape(-1, 3)
    kinds = SPATIAL if dimension == "3d" else FLAT
    found: list[tuple[str, FitResult, float]] = []
    for kind in kinds:
        result = _tried(kind, points)
        if result is not None:
            found.append((kind, result, _criterion(kind, result, points, u_hit_mm)))
    if dimension == "3d" and len(points) >= 3 and (ring := _ring(points, u_hit_mm)) is not None:
        found.append(("circle", ring, _criterion("circle", ring, points, u_hit_mm)))
    if not found:
        fit("point", points)
        raise FitError("Nothing fits these hits.", "The hits are kept.", "Take more hits.")
    scores = np.array([score for _, _, score in found])
    belief = np.exp(-(scores - scores.min()) / 2)
    belief /= belief.sum()
    order = np.argsort(-belief, kind="stable")
    candidates = tuple(Candidate(found[k][0], found[k][1], float(belief[k])) for k in order)
    tie = len(candidates) > 1 and candidates[0].sure - candidates[1].sure < TIE
    return Recognition(candidates, tie)


def _tried(kind: str, points: Array) -> FitResult | None:
    if len(points) < LEAST[kind]:
        return None
    try:
        return fit(kind, points)
    except FitError:
        return None


def _ring(points: Array, u_hit_mm: float) -> FitResult | None:
    """A circle in space, where the hits lie in one plane as well as they can be read."""
    _, spreads, _ = principal_axes(points)
    if spreads[2] / np.sqrt(len(points)) > 3 * u_hit_mm:
        return None
    return _tried("circle", points)


def _criterion(kind: str, result: FitResult, points: Array, u_hit_mm: float) -> float:
    """Misfit in units of the hits' uncertainty, less what the agreement of so many hits is worth.

    A hit on a surface agrees in one coordinate, on a curve in two, on a point in three; what is
    beyond the shape's own freedoms is agreement that chance would have given only with odds of
    the hits' uncertainty to their extent.
    """
    misfit = float(np.sum(result.residuals**2))
    if kind in ("circle", "ellipse", "round_slot"):
        misfit += float(np.sum((result.local.inverse().points(points)[:, 2]) ** 2))
    size = np.ptp(points, axis=0).max() if len(points) > 1 else 0.0
    worth = 2 * np.log(max(size / u_hit_mm, np.e))
    spare = AGREES.get(kind, 1) * len(points) - FREEDOMS[kind]
    return misfit / u_hit_mm**2 - spare * worth + SIMPLER * FREEDOMS[kind]
