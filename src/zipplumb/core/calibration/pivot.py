"""The pivot: the ball rests in a seat, the arm swings, and the tip's place in the last axis comes out.

For every pose (R, p) of the last axis the tip R o + p is the seat's c, so that [R, -I] [o; c] = -p
is linear in the offset o and the seat c. Its normal equations need only sums over the poses.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..errors import FitError
from ..frames import Array, Indices, rotations_from_quaternions
from ..units import mm
from .least import LIMIT_MM, Verdict, held_against, sandwich
from .reach import Reach, reach_of

LEAST = 12  # poses, before anything is said
TRIES, SUBSET = 120, 8  # random starts of as many poses, to find the seat although the ball slipped
SLIP_SIGMAS, SLIP_MM = 7.0, 0.12  # beyond both the ball was not in its seat
GAP = 4  # poses between two slips that are one
ANOTHER_MM = 0.5  # a tip so far from the other's is another probe's
LASTING = 0.5  # of what a maker states, what may be one error all through a sweep: our choice, no standard says
LOOSE = 1e-6  # relative to the best-known direction


@dataclass(frozen=True)
class Slip:
    """Poses ``first`` to ``last`` of a sweep, set aside; ``words`` say why."""

    sweep: int
    first: int
    last: int
    words: str


@dataclass(frozen=True, eq=False)
class Pivot:
    """The result of a pivot calibration.

    Attributes
    ----------
    offset_mm : (3,) tip in the last axis; seat_mm : (3,) in the instrument
    covariance : (3, 3) mm² of the offset; where a direction is not determined, ``weakest`` names it
    residuals : (n,) distances of every tip from the seat
    used : (n,) bool; the others were set aside
    rms_mm, largest_mm : of the poses used
    u_weakest_mm : standard uncertainty along the least-known direction
    weakest : (3,) that direction, in the instrument, as the arm stood at the last pose
    reach : directions reached and wanted
    slips : what was set aside, and why
    swapped : a sentence where the probe was changed without a word, else ""
    """

    offset_mm: Array
    seat_mm: Array
    covariance: Array
    residuals: Array
    used: NDArray[np.bool_]
    rms_mm: float
    largest_mm: float
    u_weakest_mm: float
    weakest: Array
    reach: Reach
    slips: tuple[Slip, ...]
    swapped: str

    @property
    def weakest_words(self) -> str:
        """How well the tip is known in its worst direction, and which that is, as seen from the arm."""
        if not np.isfinite(self.u_weakest_mm):
            return "So far nothing tells where the tip is in one direction: the swings look alike."
        words = ("from the arm outward", "to the arm's left and right", "up and down")
        along = np.abs([self.weakest @ self.reach.away, self.weakest @ self.reach.left, self.weakest[2]])
        return f"The tip is known to {mm(2 * self.u_weakest_mm)} in its worst direction, {words[int(np.argmax(along))]}."

    def verdict(self, limit_mm: float = LIMIT_MM) -> tuple[Verdict, str]:
        """Whether it may be kept, and why, in a sentence."""
        if self.swapped:
            return "fail", self.swapped
        if self.reach.missing:
            return "not enough", self.reach.advice
        if 2 * self.u_weakest_mm > limit_mm:
            return "not enough", f"{self.weakest_words} {self.reach.advice_across(self.weakest)}"
        return held_against(self.rms_mm, limit_mm, "Clean ball and seat, and swing again.")


def pivot(poses: Array, sweeps: Indices, roll: bool = True, u_stated_mm: float = 0.0) -> Pivot:
    """Solve the pivot.

    Parameters
    ----------
    poses : (n, 7) x, y, z mm and quaternion w, x, y, z of the last axis in the instrument
    sweeps : (n,) number of the sweep of each
    roll : the arm's handle rolls (7 axes), so that a roll is wanted too
    u_stated_mm : standard uncertainty of a place, as the maker states it; what of it is one error all
        through a sweep does not show in the residuals, so it is added as such

    Raises
    ------
    FitError
        Too few poses, or poses that are no numbers.
    """
    poses = np.asarray(poses, float).reshape(-1, 7)
    if len(poses) < LEAST or not np.all(np.isfinite(poses)):
        raise FitError(
            f"A pivot needs {LEAST} poses at least; there are {len(poses)}.", "The poses are kept.", "Keep swinging."
        )
    turns, places = rotations_from_quaternions(poses[:, 3:]), poses[:, :3]
    used = _in_seat(turns, places, sweeps)
    offset, seat, loose = solved(turns[used], places[used])
    gaps = turns @ offset + places - seat
    residuals = np.linalg.norm(gaps, axis=1)
    spread = np.diag([np.inf] * 3)
    if not loose.shape[1]:
        spread = _covariance(turns[used], gaps[used]) + (LASTING * u_stated_mm) ** 2 * _of_sweeps(turns[used], sweeps[used])
    values, vectors = (np.array([np.inf]), loose[:3, :1]) if loose.shape[1] else np.linalg.eigh(spread)
    slips, swapped = _slips_and_swap(turns, places, sweeps, used, offset, seat)
    weakest = vectors[:, -1] / max(float(np.linalg.norm(vectors[:, -1])), 1e-12)
    return Pivot(
        offset, seat, spread, residuals, used,
        float(np.sqrt(np.mean(residuals[used] ** 2))), float(residuals[used].max()),
        float(np.sqrt(values[-1])), turns[-1] @ weakest, reach_of(turns[used], offset, seat, roll), slips, swapped,
    )  # fmt: skip


def solved(turns: Array, places: Array) -> tuple[Array, Array, Array]:
    """Offset (3,), seat (3,) and what stays loose (6, m): the least-norm solution where something does."""
    normal, right = _normal(turns.sum(axis=0), len(turns)), _right(turns, places)
    values, vectors = np.linalg.eigh(normal)
    known = values > LOOSE * values[-1]
    both = vectors[:, known] @ ((vectors[:, known].T @ right) / values[known])
    return both[:3], both[3:], vectors[:, ~known]


def _normal(total: Array, count: int) -> Array:
    """Normal matrices (..., 6, 6) from sums (..., 3, 3) of rotations."""
    found = np.zeros((*total.shape[:-2], 6, 6))
    found[..., :3, :3] = found[..., 3:, 3:] = count * np.eye(3)
    found[..., 3:, :3] = -total
    found[..., :3, 3:] = -np.swapaxes(total, -1, -2)
    return found


def _right(turns: Array, places: Array) -> Array:
    return np.concatenate([-np.einsum("...nji,...nj->...i", turns, places), places.sum(axis=-2)], axis=-1)


def _covariance(turns: Array, gaps: Array) -> Array:
    n = len(turns)
    jacobian = np.concatenate([turns, np.broadcast_to(-np.eye(3), (n, 3, 3))], axis=2).reshape(-1, 6)
    return sandwich(jacobian, gaps.ravel(), np.repeat(np.arange(n), 3))[:3, :3]


def _of_sweeps(turns: Array, sweeps: Indices) -> Array:
    """(3, 3) of the offset, where every sweep has one error of its own, 1 mm in each direction, all through."""
    inverse, found = np.linalg.inv(_normal(turns.sum(axis=0), len(turns))), np.zeros((3, 3))
    for sweep in np.unique(sweeps):
        mine = turns[sweeps == sweep]
        answer = inverse[:3] @ np.vstack([mine.sum(axis=0).T, -len(mine) * np.eye(3)])
        found += answer @ answer.T
    return found


def _in_seat(turns: Array, places: Array, sweeps: Indices) -> NDArray[np.bool_]:
    """Which poses have the ball in its seat: a start that half of them agree on, then all that agree with that.

    Source: P. Rousseeuw, "Least median of squares regression", JASA 79 (1984).
    """
    random = np.random.default_rng(0)
    some = random.integers(0, len(turns), (TRIES, SUBSET))
    normal, right = _normal(turns[some].sum(axis=1), SUBSET), _right(turns[some], places[some])
    ridge = 1e-9 * SUBSET * np.eye(6)  # a subset may leave something loose
    both = np.linalg.solve(normal + ridge, right[:, :, None])[:, :, 0]
    off = np.linalg.norm(np.einsum("nij,tj->tni", turns, both[:, :3]) + places - both[:, None, 3:], axis=2)
    best = off[np.argmin(np.median(off, axis=1))]
    used = best <= np.quantile(best, 0.5)
    for _ in range(10):
        offset, seat, _ = solved(turns[used], places[used])
        off = np.linalg.norm(turns @ offset + places - seat, axis=1)
        scale = float(np.sqrt(np.mean(off[used] ** 2)))
        now = off <= max(SLIP_SIGMAS * max(scale, 1e-9), SLIP_MM)
        if np.array_equal(now, used):
            break
        used = now
    return _whole_parts(~used, sweeps)


def _whole_parts(out: NDArray[np.bool_], sweeps: Indices) -> NDArray[np.bool_]:
    """Poses between two that slipped, in one sweep, slipped too: what is left is in the seat."""
    out = out.copy()
    at = np.flatnonzero(out)
    for a, b in pairwise(at.tolist()):
        if b - a <= GAP and sweeps[a] == sweeps[b]:
            out[a:b] = True
    return ~out


def _slips_and_swap(turns, places, sweeps, used, offset, seat) -> tuple[tuple[Slip, ...], str]:
    slips, swapped = [], ""
    out = np.flatnonzero(~used)
    for part in np.split(out, np.flatnonzero((np.diff(out) > 1) | (np.diff(sweeps[out]) != 0)) + 1):
        if not len(part):
            continue
        sweep = int(sweeps[part[0]])
        tips = np.einsum("nji,nj->ni", turns[part], seat - places[part])
        other = tips.mean(axis=0)
        own = np.linalg.norm(tips - other, axis=1)
        apart = float(np.linalg.norm(other - offset))
        if len(part) >= LEAST and apart > ANOTHER_MM and np.sqrt(np.mean(own**2)) < 0.2 * apart:
            swapped = (
                f"From sweep {sweep} on the tip stands {mm(apart, '.1f')} elsewhere in the same seat: "
                "another probe is on. Put the first one back, or begin again with this one."
            )
        else:
            slips.append(
                Slip(
                    sweep,
                    int(part[0]),
                    int(part[-1]),
                    f"The ball left its seat in sweep {sweep}; that part of it is set aside.",
                )
            )
    return tuple(slips), swapped
