"""Datum shift: the motion of a part within the clearance of its datums that fits a pattern best.

A datum at its maximum material boundary does not center the part: it may shift until the datum feature meets the boundary
(ISO 2692, ISO 5459; from memory of the editions of 2021 and 2011). The motions that the other datums hold stay held.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize

from ..frames import Array, cross

HELD = 1e-9  # singular values beside the largest
AT_MM = 1e-12


@dataclass(frozen=True, eq=False)
class Clearance:
    """A datum that is no tight fit: ``places`` (k, 3) of its axis, square to ``axis`` each may move by ``radius_mm``."""

    places: Array
    axis: Array
    radius_mm: float

    def carried(self, motion: Array) -> Array:
        """(k,) mm by which a small motion carries its places square to the axis."""
        off = moved(self.places, motion) - self.places
        return np.asarray(np.linalg.norm(off - np.outer(off @ self.axis, self.axis), axis=1))


def rows_of(places: Array, directions: Array) -> Array:
    """(k, 6): how touches along directions answer to a small slide and turn about the origin."""
    return np.hstack([directions, cross(places, directions)])


def left_free(levels: Sequence[tuple[Array, bool]], length_mm: float) -> Array:
    """(6, d) the motions that nothing tight holds, turns by the length.

    Parameters
    ----------
    levels : in their order, what each datum holds (k, 6), and whether it is tight; each takes what those before left
    length_mm : by which turns are told, so that they weigh as slides do
    """
    scale = np.r_[np.ones(3), np.full(3, 1 / length_mm)]
    taken, held = np.empty((0, 6)), np.empty((0, 6))
    for rows, tight in levels:
        new = _space(rows * scale - (rows * scale) @ taken.T @ taken)
        taken = np.vstack([taken, new])
        held = np.vstack([held, new]) if tight else held
    basis = np.linalg.svd(np.vstack([held, np.zeros((6, 6))]))[2][len(held) :]
    return (basis * scale).T


def _space(rows: Array) -> Array:
    """(r, 6) orthonormal, of what some rows span."""
    _, sizes, ways = np.linalg.svd(rows, full_matrices=False)
    return ways[sizes > HELD * max(float(sizes.max(initial=0.0)), 1.0)]


def moved(points: Array, motion: Array) -> Array:
    """Points (n, 3) after a small slide and turn (6,)."""
    return points + motion[:3] + cross(np.broadcast_to(motion[3:], points.shape), points)


def best_motion(needs: Sequence[Callable[[Array], float]], free: Array, clearances: Sequence[Clearance]) -> Array:
    """The small motion (6,) after which the member that needs the most needs the least.

    Parameters
    ----------
    needs : motion -> mm that a member needs beyond what it is allowed
    free : (6, d) motions that are free, see ``left_free``
    clearances : which bound them
    """
    count = free.shape[1]
    if not count:
        return np.zeros(6)

    def over(x: Array) -> Array:
        motion = free @ x[:-1]
        return x[-1] - np.array([need(motion) for need in needs])

    def room(x: Array) -> Array:
        motion = free @ x[:-1]
        return np.concatenate([clear.radius_mm**2 - clear.carried(motion) ** 2 for clear in clearances])

    start = np.r_[np.zeros(count), max(need(np.zeros(6)) for need in needs)]
    found = minimize(
        lambda x: x[-1], start, jac=lambda x: np.r_[np.zeros(count), 1.0], method="SLSQP",
        constraints=[{"type": "ineq", "fun": over}, {"type": "ineq", "fun": room}], options={"ftol": 1e-12, "maxiter": 200},
    )  # fmt: skip
    inside = room(found.x).min(initial=0.0) >= -AT_MM
    better = max(need(free @ found.x[:-1]) for need in needs) < start[-1]
    return np.asarray(free @ found.x[:-1]) if inside and better else _shrunk(free @ found.x[:-1], needs, clearances, start[-1])


def _shrunk(motion: Array, needs: Sequence[Callable[[Array], float]], clearances: Sequence[Clearance], before: float) -> Array:
    """A motion scaled down to what the clearances allow; zero if that does not reduce the largest need."""
    share = 1.0
    for clear in clearances:
        farthest = float(clear.carried(motion).max())
        share = min(share, clear.radius_mm / farthest) if farthest > 0 else share
    return share * motion if max(need(share * motion) for need in needs) < before else np.zeros(6)
