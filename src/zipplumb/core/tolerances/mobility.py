"""Datum shift: the motion of a part within the clearance of its datums that fits a pattern best.

A datum at its maximum material boundary does not center the part: it may shift until the datum feature meets the boundary
(ISO 2692, ISO 5459; from memory of the editions of 2021 and 2011). The motions that the other datums hold stay held.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from scipy.optimize import minimize

from ..frames import Array, cross

HELD = 1e-9  # singular values beside the largest
AT_MM = 1e-12
STEP = 1e-6  # of a motion, mm and rad


class Need(Protocol):
    """The zone that a member needs beyond its allowance (mm) as a function of the motion of the part."""

    def __call__(self, motion: Array) -> float: ...

    def each(self, motion: Array, free: Array) -> tuple[Array, Array]:
        """(n,) mm of which the need is the largest, and by how much each answers to the free motions (n, d)."""


@dataclass(frozen=True, eq=False)
class OffPlaces:
    """Twice as much as the farthest of some places lies off, less what it is allowed: ``off`` (n, 3) as they lie, and
    ``carried`` (n, 3, 6) by a small motion."""

    off: Array
    carried: Array
    less_mm: float

    @classmethod
    def of(cls, off: Callable[[Array], Array], points: Array, less_mm: float) -> OffPlaces:
        """``off``: places (n, 3) -> (n, 3), of something that stands still, and so alike everywhere."""
        here = off(points)
        across = np.stack([off(points + step) - here for step in np.eye(3)], axis=2)
        return cls(here, across @ _carried_by(points), less_mm)

    def __call__(self, motion: Array) -> float:
        return 2.0 * float(np.linalg.norm(self.off + self.carried @ motion, axis=1).max()) - self.less_mm

    def each(self, motion: Array, free: Array) -> tuple[Array, Array]:
        off, answers = self.off + self.carried @ motion, self.carried @ free
        far = np.linalg.norm(off, axis=1)
        ways = off / np.maximum(far, AT_MM)[:, None]
        return 2.0 * far - self.less_mm, 2.0 * np.einsum("ij,ijk->ik", ways, answers)


@dataclass(frozen=True, eq=False)
class Stepped:
    """Any need, by its differences."""

    need: Callable[[Array], float]

    def __call__(self, motion: Array) -> float:
        return self.need(motion)

    def each(self, motion: Array, free: Array) -> tuple[Array, Array]:
        here = self.need(motion)
        steps = [(self.need(motion + STEP * way) - here) / STEP for way in free.T]
        return np.array([here]), np.array([steps])


def _carried_by(points: Array) -> Array:
    """(n, 3, 6): how a small slide and turn carries points (n, 3)."""
    x, y, z = points.T
    none = np.zeros(len(points))
    turned = np.stack([[none, z, -y], [-z, none, x], [y, -x, none]], axis=0).transpose(2, 0, 1)
    return np.concatenate([np.broadcast_to(np.eye(3), turned.shape), turned], axis=2)


@dataclass(frozen=True, eq=False)
class Clearance:
    """A datum that is no tight fit: ``places`` (k, 3) of its axis, square to ``axis`` each may move by ``radius_mm``."""

    places: Array
    axis: Array
    radius_mm: float

    @cached_property
    def across(self) -> Array:
        """(k, 3, 6): how a small motion carries its places square to the axis."""
        return (np.eye(3) - np.outer(self.axis, self.axis)) @ _carried_by(self.places)

    def carried(self, motion: Array) -> Array:
        """(k,) mm by which a small motion carries its places square to the axis."""
        return np.asarray(np.linalg.norm(self.across @ motion, axis=1))

    def room(self, motion: Array, free: Array) -> tuple[Array, Array]:
        """(k,) mm² that are left at each place, and how they answer to the free motions (k, d)."""
        off = self.across @ motion
        return self.radius_mm**2 - np.einsum("ij,ij->i", off, off), -2.0 * np.einsum("ij,ijk->ik", off, self.across @ free)


def rows_of(places: Array, directions: Array) -> Array:
    """(k, 6): how touches along directions answer to a small slide and turn about the origin."""
    return np.hstack([directions, cross(places, directions)])


def left_free(levels: Sequence[tuple[Array, bool]], length_mm: float) -> Array:
    """(6, d) the motions that nothing tight holds, turns by the length.

    Parameters
    ----------
    levels : in their order, what each datum holds (k, 6), and whether it is tight; each takes what those before left
    length_mm : by which turns are multiplied, so that they weigh as slides do
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


def best_motion(needs: Sequence[Need], free: Array, clearances: Sequence[Clearance]) -> Array:
    """The small motion (6,) after which the member that needs the most needs the least.

    Parameters
    ----------
    needs : of the members
    free : (6, d) motions that are free, see ``left_free``
    clearances : which bound them
    """
    count = free.shape[1]
    if not count:
        return np.zeros(6)
    at: list[tuple[bytes, tuple[Array, Array]]] = []

    def bounds(x: Array) -> tuple[Array, Array]:
        """Inequality constraints (m,), to be non-negative, and their derivatives (m, d + 1): the largest need x[-1] over
        each, and all rooms."""
        if not at or at[0][0] != x.tobytes():
            motion = free @ x[:-1]
            needed = [need.each(motion, free) for need in needs]
            rooms = [clear.room(motion, free) for clear in clearances]
            value = np.concatenate([*(x[-1] - mm for mm, _ in needed), *(mm2 for mm2, _ in rooms)])
            over = [np.c_[-by, np.ones(len(by))] for _, by in needed]
            slopes = np.vstack([*over, *(np.c_[by, np.zeros(len(by))] for _, by in rooms)])
            at[:] = [(x.tobytes(), (value, slopes))]
        return at[0][1]

    start = np.r_[np.zeros(count), max(need(np.zeros(6)) for need in needs)]
    only_last = np.r_[np.zeros(count), 1.0]
    found = minimize(
        lambda x: x[-1], start, jac=lambda x: only_last, method="SLSQP",
        constraints={"type": "ineq", "fun": lambda x: bounds(x)[0], "jac": lambda x: bounds(x)[1]},
        options={"ftol": 1e-9, "maxiter": 60},
    )  # fmt: skip
    motion = np.asarray(free @ found.x[:-1])
    inside = min(clear.room(motion, free)[0].min(initial=0.0) for clear in clearances) >= -AT_MM if clearances else True
    better = max(need(motion) for need in needs) < start[-1]
    return motion if inside and better else _shrunk(motion, needs, clearances, start[-1])


def _shrunk(motion: Array, needs: Sequence[Need], clearances: Sequence[Clearance], before: float) -> Array:
    """A motion scaled down to what the clearances allow; zero if that does not reduce the largest need."""
    share = 1.0
    for clear in clearances:
        farthest = float(clear.carried(motion).max())
        share = min(share, clear.radius_mm / farthest) if farthest > 0 else share
    return share * motion if max(need(share * motion) for need in needs) < before else np.zeros(6)
