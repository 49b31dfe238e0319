"""Where a hit tells the most of what is judged.

Each hit that a fit gets narrows what its hits leave open. By the Jacobians by source that are there, the variance of the
characteristic in question after one more hit at a place is known without a fit; places are chosen one after the other by that
gain (c-optimal for the characteristic: Fedorov, Theory of Optimal Experiments, 1972; Pukelsheim, Optimal Design of Experiments,
1993).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from ...features import Feature, sizes_of
from ...frames import Array, Indices
from ...uncertainty import Source
from ..results import FoundFeature

STEP_MM = 1e-4
A_DISTANCE = 0.1  # by which the slope of a distance may differ from 1, where a place is sound


@dataclass(frozen=True, eq=False)
class MayBeTouched:
    """Where a row may be touched once more.

    Attributes
    ----------
    row : id
    places : (n, 3) tip centers, in the world; ``ways`` (n, 3) off the surface
    height_mm : how far off the surface the tip's centers are
    sigma : standard uncertainty of a hit, mm
    tells : (n, m) how a hit at each place answers to one standard deviation of each of the m independent numbers that the
        row's hits leave open
    """

    row: int
    places: Array
    ways: Array
    height_mm: float
    sigma: float
    tells: Array

    def left_after(self, chosen: Indices) -> Array:
        """(m, m) covariance of those numbers after hits at some places; it was the identity."""
        told = self.tells[chosen] / self.sigma
        return np.asarray(np.linalg.inv(np.eye(self.tells.shape[1]) + told.T @ told))


def may_be_touched(row: int, found: FoundFeature, spots: Array | None) -> MayBeTouched | None:
    """Of a measured row.

    Parameters
    ----------
    spots : (n, 3) where in the world its surface may be touched, besides where it was
    """
    if found.feature is None or found.centers is None or found.fit is None:
        return None
    terms = found.feature.uncertainty.by_source.get(Source("hits", row))
    centers = found.centers[: len(found.counted) - found.scanned]
    if terms is None or not len(centers):
        return None
    height = float(np.median(found.feature.shape.distance(centers)))
    places, ways = _on(found.feature.shape, height, centers if spots is None else np.vstack([spots, centers]))
    if not len(places):
        return None
    sigma = max(found.u_hit_mm, found.fit.sigma if found.fit.spare > 0 else 0.0)
    return MayBeTouched(row, places, ways, height, sigma, answers(found.feature, places, ways) @ terms)


@dataclass(frozen=True, eq=False)
class InTurn:
    """Places of a row in the order in which they tell the most of some numbers that are judged.

    ``order`` (count,): which; ``variances`` (count, j): what is left after each of the variance of each number from this row.
    """

    of: MayBeTouched
    order: Indices
    variances: Array
    before: Array

    @cached_property
    def gains(self) -> Array:
        """(count,) by how much each lessens the variance of the first number."""
        before = np.concatenate([self.before[:1], self.variances[:-1, 0]])
        return np.asarray(before - self.variances[:, 0])

    def first(self, count: int) -> Array:
        """The first places (count, 3), with as much scatter as there is, by turns to either side: hits that fit too well
        would tell of too much certainty."""
        chosen = self.order[:count]
        sides = np.where(np.arange(count) % 2, -1.0, 1.0)[:, None]
        return self.of.places[chosen] + self.of.sigma * sides * self.of.ways[chosen]

    def aims(self, count: int) -> Array:
        """The first places (count, 3) on the surface."""
        chosen = self.order[:count]
        return self.of.places[chosen] - self.of.height_mm * self.of.ways[chosen]


def in_turn(of: MayBeTouched, judged_by: Array, count: int, weights: Array | None = None) -> InTurn:
    """Places by what they tell of numbers that answer so (j, m) to what the row's hits leave open; ``weights`` (j,)."""
    judged_by = np.atleast_2d(judged_by)
    order, variances = best_places(of.tells, judged_by, of.sigma, count, weights)
    return InTurn(of, order, variances, np.einsum("jm,jm->j", judged_by, judged_by))


def best_places(
    tells: Array, judged_by: Array, sigma: float, count: int, weights: Array | None = None
) -> tuple[Indices, Array]:
    """Places chosen one after the other by what each leaves of the variance of what is judged.

    A place is chosen again only once all were: hits side by side tell of the form between them, hits at one place do not.

    Parameters
    ----------
    tells : (n, m) how a hit at each place answers to one standard deviation of each of m independent numbers
    judged_by : (j, m) how what is judged answers to them
    sigma : standard uncertainty of a hit, in the unit of ``tells``
    count : so many
    weights : (j,) of the variances; all alike where left out

    Returns
    -------
    order : (count,) which places
    variances : (count, j) what of the variances from these numbers is left after each
    """
    judged_by = np.atleast_2d(judged_by)
    weighed = np.ones(len(judged_by)) if weights is None else weights
    left = np.eye(tells.shape[1])
    order, variances, times = np.empty(count, int), np.empty((count, len(judged_by))), np.zeros(len(tells), int)
    for k in range(count):
        gain = gains(tells, judged_by, sigma, left) @ weighed
        best = order[k] = int(np.argmax(np.where(times == times.min(), gain, -1.0)))
        times[best] += 1
        left = left_after(left, tells[best], sigma)
        variances[k] = np.maximum(np.einsum("jm,mn,jn->j", judged_by, left, judged_by), 0.0)
    return order, variances


def gains(tells: Array, judged_by: Array, sigma: float, left: Array) -> Array:
    """(n, j) by how much a hit at each place would lessen the variance of each of what is judged."""
    seen = tells @ left
    return np.asarray((seen @ judged_by.T) ** 2 / (sigma**2 + np.einsum("ij,ij->i", seen, tells))[:, None])


def left_after(left: Array, tells: Array, sigma: float) -> Array:
    """(m, m) covariance after one more hit that answers so (m,)."""
    seen = left @ tells
    return np.asarray(left - np.outer(seen, seen) / (sigma**2 + seen @ tells))


def answers(feature: Feature, places: Array, ways: Array) -> Array:
    """(n, 6 + s) how the distance of each place answers to the shape's slides (mm) and turns (rad), in its own axes, and to its
    sizes."""
    shape, into = feature.shape, feature.local.inverse()
    at, along = into.points(places), into.vectors(ways)
    grown = [
        (replace(shape, **{name: getattr(shape, name) + STEP_MM}).distance(places) - shape.distance(places)) / STEP_MM
        for name in sizes_of(shape)
    ]
    return np.column_stack([-along, -np.cross(at, along), *grown])


def _on(shape: Any, height: float, spots: Array) -> tuple[Array, Array]:
    """Places so far off a shape at some spots; and the ways off it."""
    places = spots
    for _ in range(2):  # once more, where the way off it turned
        ways = _gradient(shape, places)
        places = places + (height - shape.distance(places))[:, None] * ways
    sound = np.abs(np.linalg.norm(ways, axis=1) - 1) < A_DISTANCE
    return places[sound], ways[sound]


def _gradient(shape: Any, places: Array) -> Array:
    """(n, 3) how the distance from a shape grows."""
    steps = STEP_MM * np.eye(3)
    return np.stack([(shape.distance(places + s) - shape.distance(places - s)) / (2 * STEP_MM) for s in steps], axis=1)
