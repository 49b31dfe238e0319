"""Recognition of the shape that was touched: candidates by likelihood.

Every shape that the hits can carry is fitted and weighed by its description length: what it
leaves unexplained, in units of the hits' uncertainty, against how much agreement it explains
beyond its own freedoms. A shape with as many freedoms as it explains (three hits on a circle)
has earned nothing, so the simpler one goes first.
Source of the principle: J. Rissanen, "Modeling by shortest data description", Automatica 14
(1978).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike

from ..errors import FitError
from ..frames import Array, cross
from ..shapes import Plane
from .api import LEAST, fit
from .doubts import span_deg
from .flat import fit_plane, principal_axes
from .held import FREE
from .placed import FREEDOM, Placed, columns_of
from .result import FitResult

SPATIAL = ("point", "line", "plane", "circle", "sphere", "cylinder", "cone", "torus")
FLAT = ("point", "line", "circle", "ellipse", "round_slot", "square_slot")
# a ball counts as a bore does: neither is a case of the other, and a belt of hits that both explain tells them no apart
FREEDOMS = {
    "point": 3, "line": 4, "plane": 3, "circle": 6, "sphere": 5, "cylinder": 5, "cone": 6, "torus": 7,
    "ellipse": 8, "round_slot": 8, "square_slot": 8,
}  # fmt: skip
AGREES = {"point": 3, "line": 2, "circle": 2, "ellipse": 2, "round_slot": 2, "square_slot": 2}
SIMPLER = 1e-3  # settles exact ties for the shape with fewer freedoms
TIE = 0.2  # two candidates whose beliefs differ by less are a tie
HOPELESS = 60.0  # so much worse a score leaves a belief of 1e-13
OPEN_DEG = 200.0  # a circle of which less was touched is called an arc
U_HIT_MM = 0.015
SEARCHED = ("cylinder", "cone", "torus", "ellipse", "round_slot", "square_slot")
PATIENCE = 6  # a search comes after so much of the hits' number again
OTHER_RAD = 0.05  # by which a cone's angle is changed to see whether the hits tell it
SURPRISE = 16.0  # a new hit that adds more variances than this has a kind looked for anew


@dataclass(frozen=True, eq=False)
class Candidate:
    """A shape that the hits may be, the share of belief that it has (0 to 1), and the rms of what it leaves as far as it
    was looked for.

    ``result`` is its fit to all hits; FitError where the hits cannot carry it.
    """

    kind: str
    sure: float
    leaves_mm: float
    points: Array = field(repr=False)
    fixed: dict[str, Any] = field(default_factory=dict, repr=False)

    @cached_property
    def result(self) -> FitResult:
        return fit(self.kind, self.points, fixed=self.fixed)

    @property
    def error_mm(self) -> float:
        """Root mean square of what it leaves."""
        return self.result.rms


@dataclass(frozen=True, eq=False)
class Recognition:
    """Candidates, the likeliest first. ``tie``: the first two are not distinguishable yet."""

    candidates: tuple[Candidate, ...]
    tie: bool

    @property
    def best(self) -> Candidate:
        return self.candidates[0]


def recognise(
    hits: ArrayLike, dimension: Literal["3d", "2d"] = "3d", u_hit_mm: float = U_HIT_MM, plane: Plane | None = None
) -> Recognition:
    """Propose what some hits are.

    Parameters
    ----------
    hits : (n, 3) array, mm
    dimension : "3d" for surfaces, "2d" for outlines
    u_hit_mm : standard uncertainty of one hit
    plane : the projection plane of outlines; by default the plane of the hits

    Raises
    ------
    FitError
        No hit at all, or hits that are no numbers.

    Examples
    --------
    >>> turn = np.arange(7) * 0.9
    >>> hits = np.column_stack([25 * np.cos(turn), 25 * np.sin(turn), 6.0 * np.arange(7)])
    >>> found = recognise(hits)
    >>> found.candidates[0].kind, round(found.candidates[0].result.shape.radius, 6)
    ('cylinder', 25.0)
    """
    return Recogniser(dimension, u_hit_mm, plane).with_all(np.asarray(hits, float).reshape(-1, 3))


class Recogniser:
    """Recognition that grows hit by hit.

    More hits can only leave more unexplained, so a shape that earlier hits have ruled out beyond
    hope stays ruled out and is not fitted again.
    """

    def __init__(self, dimension: Literal["3d", "2d"] = "3d", u_hit_mm: float = U_HIT_MM, plane: Plane | None = None):
        self.kinds = SPATIAL if dimension == "3d" else FLAT
        self.u_hit_mm, self.plane = u_hit_mm, plane
        self._points = np.empty((0, 3))
        self._misfit: dict[str, float] = {}  # sum of squares that a kind leaves at the least
        self._placed: dict[str, Placed] = {}  # where it stood
        self._retry: dict[str, int] = {}  # so many hits before a kind is looked for anew

    def add(self, hit: ArrayLike) -> Recognition:
        """One more hit (3,)."""
        return self.with_all(np.vstack([self._points, np.asarray(hit, float).reshape(1, 3)]))

    def with_all(self, points: Array) -> Recognition:
        """All hits (n, 3), of which the earlier ones were seen before."""
        if not len(points) or not np.all(np.isfinite(points)):
            fit("point", points)  # says what is wrong
        self._points = points
        scores: dict[str, float] = {}
        for kind in sorted(self.kinds, key=lambda k: self._score(k, self._misfit.get(k, 0.0))):
            least = self._score(kind, self._misfit.get(kind, 0.0))
            if len(points) < LEAST[kind] or (scores and least > min(scores.values()) + HOPELESS):
                continue
            misfit = self._fitted(kind)
            if misfit is not None:
                self._misfit[kind] = misfit
                scores[kind] = self._score(kind, misfit)
        return self._ordered(self._as_far_as_told(scores))

    def _as_far_as_told(self, scores: dict[str, float]) -> dict[str, float]:
        """A cone that fits as well is no less likely than the best where hits at these places never tell them apart.

        Two rings of hits on any cone lie on a ball as well: that they do is no coincidence that would speak for the ball.
        """
        best = min(scores, key=scores.__getitem__)
        cone = self._placed.get("cone")
        if cone is None or "cone" not in scores or best not in self._placed or FREEDOMS[best] >= FREEDOMS["cone"]:
            return scores
        alike = self._misfit["cone"] <= self._misfit[best] + SURPRISE * self.u_hit_mm**2
        if alike and self._passes_too(best, replace(cone, sizes=cone.sizes + np.array([0.0, OTHER_RAD]))):
            scores["cone"] = scores[best] + SIMPLER
        return scores

    def _passes_too(self, kind: str, other: Placed) -> bool:
        """Whether a shape of that kind would pass through the hits if they lay, where they are, on another one."""
        points = self._points
        for _ in range(2):
            points = points - other.residuals(points)[:, None] * other.gradients(points)
        *_, cost = self._placed[kind].settled(points, columns_of(kind), loose=1e-4, iterations=12)
        return cost <= len(points) * self.u_hit_mm**2

    def _fixed(self, kind: str) -> dict[str, Any]:
        return {"plane": self.plane} if self.plane is not None and kind != "point" else {}

    def _fitted(self, kind: str) -> float | None:
        """Sum of squares that a kind leaves; None where the hits cannot carry it."""
        count = len(self._points)
        if kind == "circle" and self.kinds is SPATIAL and not self._flat():
            return None
        if (warm := self._warm(kind)) is not None:
            return warm
        if count < self._retry.get(kind, 0):
            return None
        if kind in SEARCHED and count > 2 * LEAST[kind]:
            self._retry[kind] = count + 1 + count // PATIENCE  # a search is not worth its time at every hit
        try:
            result = fit(kind, self._points, fixed=self._fixed(kind), thorough=False)
        except FitError:
            return None
        if result.placed is not None:
            self._placed[kind] = result.placed
        misfit = float(result.residuals @ result.residuals)
        if result.lies_in is not None and self.plane is None and result.kind != "line":
            misfit += float(result.lies_in.residuals @ result.lies_in.residuals)
        return misfit

    def _warm(self, kind: str) -> float | None:
        """Like ``_fitted``, started from where the kind stood before; None where it must be looked for anew."""
        placed, before = self._placed.get(kind), self._misfit.get(kind)
        if placed is None or before is None or len(self._points) <= 2 * LEAST[kind]:
            return None
        outside = 0.0
        if FREEDOM[kind].flat and self.plane is None:
            plane = fit_plane(self._points, FREE, placed.axes[:, 2])
            outside = float(plane.residuals @ plane.residuals)
            placed = _laid_in(placed, plane)
        placed, *_ = placed.settled(self._points, columns_of(kind), loose=1e-4, iterations=12)
        residuals = placed.residuals(self._points)
        misfit = float(residuals @ residuals) + outside
        surprised = not misfit < before + SURPRISE * self.u_hit_mm**2
        if surprised and len(self._points) >= self._retry.get(kind, 0):
            return None
        self._placed[kind] = placed
        return misfit

    def _flat(self) -> bool:
        """Whether the hits lie in one plane as well as they can be read."""
        if len(self._points) < 3:
            return False
        _, spreads, _ = principal_axes(self._points)
        return bool(spreads[2] / np.sqrt(len(self._points)) <= 3 * self.u_hit_mm)

    def _score(self, kind: str, misfit: float) -> float:
        """Misfit in units of the hits' uncertainty, less what the agreement of so many hits is worth.

        A hit on a surface agrees in one coordinate, on a curve in two, on a point in three; what is
        beyond the shape's own freedoms is agreement that chance would have given only with odds of
        the hits' uncertainty to their extent.
        """
        points = self._points
        size = float(np.ptp(points, axis=0).max()) if len(points) > 1 else 0.0
        worth = 2 * np.log(max(size / self.u_hit_mm, np.e))
        spare = AGREES.get(kind, 1) * len(points) - FREEDOMS[kind]
        return misfit / self.u_hit_mm**2 - spare * worth + SIMPLER * FREEDOMS[kind]

    def _ordered(self, scores: dict[str, float]) -> Recognition:
        values = np.array(list(scores.values()))
        belief = np.exp(-(values - values.min()) / 2)
        belief /= belief.sum()
        kinds = list(scores)
        found = tuple(self._candidate(kinds[k], float(belief[k])) for k in np.argsort(-belief, kind="stable"))
        ruled_out = [k for k in self.kinds if k not in scores and len(self._points) >= LEAST[k] and k in self._misfit]
        found += tuple(self._candidate(kind, 0.0) for kind in ruled_out)
        return Recognition(found, len(scores) > 1 and found[0].sure - found[1].sure < TIE)

    def _candidate(self, kind: str, sure: float) -> Candidate:
        leaves_mm = float(np.sqrt(self._misfit[kind] / len(self._points)))
        candidate = Candidate(kind, sure, leaves_mm, self._points, self._fixed(kind))
        if kind != "circle" or sure < TIE:
            return candidate
        local = candidate.result.local.inverse().points(self._points)
        open_ = len(self._points) > 3 and span_deg(np.arctan2(local[:, 1], local[:, 0])) < OPEN_DEG
        return replace(candidate, kind="arc") if open_ else candidate


def _laid_in(placed: Placed, plane: FitResult) -> Placed:
    """An outline moved into the current plane."""
    normal = plane.shape.normal
    x = placed.axes[:, 0] - (placed.axes[:, 0] @ normal) * normal
    x = x / np.linalg.norm(x)
    origin = placed.origin - plane.shape.distance(placed.origin[None])[0] * normal
    return replace(placed, origin=origin, axes=np.ascontiguousarray(np.array([x, cross(normal, x), normal]).T))


# ---- near a nominal -------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Nominal:
    """A nominal feature in the frame of the hits; ``corners`` (2, 3): least and greatest of its face, if known."""

    name: str
    shape: Any
    corners: Array | None = None


@dataclass(frozen=True)
class NearNominal:
    """How far off the hits are from a nominal on average, and the share of belief that it has."""

    name: str
    off_by_mm: float
    sure: float


def touched_nominals(
    hits: ArrayLike, nominals: Sequence[Nominal], tip_radius_mm: float, off_mm: float = 0.5, reach_mm: float = 20.0
) -> tuple[NearNominal, ...]:
    """Which nominal is being touched, the likeliest first.

    Parameters
    ----------
    hits : (n, 3) tip centers, in the nominals' frame (the part is aligned, roughly at least)
    tip_radius_mm : a center lies that far off the surface, on either side
    off_mm : how far a real surface, as aligned so far, may be from its nominal (standard deviation)
    reach_mm : nominals farther from the hits than this are left out

    Returns
    -------
    NearNominal, empty where nothing is near. Beliefs of the first two that differ by less than
    ``TIE`` are a tie: ask, or take another hit.
    """
    points = np.ascontiguousarray(hits, float).reshape(-1, 3)
    off = np.array([_off(points, n, tip_radius_mm) for n in nominals]).reshape(len(nominals), len(points))
    rms = np.sqrt(np.mean(off**2, axis=1))
    near = np.flatnonzero(rms <= reach_mm)
    if not len(near):
        return ()
    score = np.sum(off[near] ** 2, axis=1) / off_mm**2
    belief = np.exp(-(score - score.min()) / 2)
    belief /= belief.sum()
    order = np.lexsort((rms[near], -belief))
    return tuple(NearNominal(nominals[near[k]].name, float(rms[near[k]]), float(belief[k])) for k in order)


def _off(points: Array, nominal: Nominal, tip_radius_mm: float) -> Array:
    off = np.abs(np.abs(nominal.shape.distance(points)) - tip_radius_mm)
    if nominal.corners is None:
        return off
    low, high = nominal.corners
    outside = np.maximum(np.maximum(low - points, points - high), 0.0)
    return np.hypot(off, np.maximum(np.linalg.norm(outside, axis=1) - tip_radius_mm, 0.0))
