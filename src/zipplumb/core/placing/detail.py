"""How a detail lies against where it belongs, from targets on it: six numbers, as far as these tell them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import AlignmentError
from ..frames import Array, Motion
from ..kernels import rotation

ROUNDS = 12
SETTLED_MM = 1e-10
TOLD = 1e-6  # singular value, by the largest, below which the targets do not tell a motion


@dataclass(frozen=True, eq=False)
class Lies:
    """How a detail lies.

    Attributes
    ----------
    about : (3,) middle of the targets seen, about which turns are taken
    length_mm : how far they reach from it: a turn times this is a length
    motion : (6,) slide (mm) and turn (rad) by which it is off
    covariance : (6, 6) of it, where it is determined
    untold : (6, k) motions of unit size (turns times ``length_mm``) that the targets do not determine
    off_mm : (n, 3) of each target, actual less nominal
    left_mm : (n, 3) what a rigid motion does not explain: a target that was taken for another, or a bent detail
    """

    about: Array
    length_mm: float
    motion: Array
    covariance: Array
    untold: Array
    off_mm: Array
    left_mm: Array

    def u_at(self, places: Array) -> Array:
        """(n,) standard uncertainty, mm, of where places (n, 3) of the detail are, in the direction in which it is largest."""
        moves = moves_of(places, self.about)
        spread = np.einsum("nij,jk,nlk->nil", moves, self.covariance, moves)
        return np.sqrt(np.linalg.eigvalsh(spread)[:, -1])


def moves_of(places: Array, about: Array) -> Array:
    """(n, 3, 6) how places (n, 3) go with a small slide and turn about a point."""
    x, y, z = (places - about).T
    found = np.zeros((len(places), 3, 6))
    found[:, 0, 0] = found[:, 1, 1] = found[:, 2, 2] = 1.0
    found[:, 0, 4], found[:, 0, 5] = z, -y
    found[:, 1, 3], found[:, 1, 5] = -z, x
    found[:, 2, 3], found[:, 2, 4] = y, -x
    return found


def middle_and_reach(places: Array) -> tuple[Array, float]:
    """The middle (3,) of places (n, 3), and how far they reach from it (rms, mm; at least 1)."""
    about = places.mean(axis=0)
    return about, max(float(np.sqrt(np.mean(np.sum((places - about) ** 2, axis=1)))), 1.0)


def turns_as_lengths(length_mm: float) -> Array:
    """(6,) factors from a motion whose turns are lengths at that reach, mm, to shifts (mm) and turns (rad)."""
    return np.array([1.0, 1, 1, *(3 * [1 / length_mm])])


def lies(nominal: Array, actual: Array, u_mm: Array) -> Lies:
    """The rigid motion that takes nominal places to actual ones (n, 3), each weighed by its uncertainty (n,).

    With fewer than three targets, or all on a line, what they do not tell is left as it is (the least motion). Raises
    AlignmentError without targets, or for numbers that are none.
    """
    nominal, actual, u_mm = (np.asarray(v, float) for v in (nominal, actual, u_mm))
    if not len(nominal):
        raise AlignmentError("No target of it was seen.", "Nothing was changed.", "Look at one of its targets.")
    if not (np.isfinite(nominal).all() and np.isfinite(actual).all() and np.all(u_mm > 0)):
        raise AlignmentError("A target has no place, or no uncertainty.", "It is left out.", "Look at it again.")
    about, length = middle_and_reach(nominal)
    into = turns_as_lengths(length)
    moved, pose = nominal, Motion.identity()
    for _ in range(ROUNDS):
        rows = (moves_of(moved, about) * into / u_mm[:, None, None]).reshape(-1, 6)
        u, s, vt = np.linalg.svd(rows, full_matrices=False)
        told = s > TOLD * s[0]
        step = into * (vt[told].T @ ((u[:, told].T @ ((actual - moved) / u_mm[:, None]).ravel()) / s[told]))
        turn = rotation(*step[3:])
        pose = Motion(turn, about + step[:3] - turn @ about) @ pose
        moved = pose.points(nominal)
        if np.abs(step / into).max() < SETTLED_MM:
            break
    covariance = into[:, None] * (vt[told].T / s[told] ** 2 @ vt[told]) * into
    turned = np.array([pose.rotation[2, 1], pose.rotation[0, 2], pose.rotation[1, 0]])
    turned = (turned - [pose.rotation[1, 2], pose.rotation[2, 0], pose.rotation[0, 1]]) / 2
    motion = np.concatenate([pose.points(about) - about, turned])
    untold = _complement(vt[told])
    return Lies(about, length, motion, covariance, untold, actual - nominal, actual - moved)


def _complement(rows: Array) -> Array:
    """(6, k) orthonormal to orthonormal rows (r, 6)."""
    _, _, vt = np.linalg.svd(np.vstack([rows, np.zeros((6 - len(rows), 6))]))
    return np.asarray(vt[len(rows) :].T)
