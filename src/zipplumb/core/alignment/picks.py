"""Planning of surface points for an alignment: the freedoms each point would hold, and the most informative next point.

D-optimal choice of the next observation: V. V. Fedorov, "Theory of Optimal Experiments" (1972), chapter 3.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..frames import Array, Motion
from .ledger import HoldLedger, ledger_of
from .touches import Linear, Pose, Solved, Touches, linearised, solve

LEAST = 1e-4  # of a touch's own information, that counts as nothing


def ledger_of_places(points: Array, normals: Array, names: Sequence[str]) -> HoldLedger:
    """The hold ledger of nominal touches at places (n, 3) along the normals there."""
    return ledger_of(_solved(points, normals), names)


def ranks_of_places(points: Array, normals: Array) -> list[int]:
    """How many freedoms the first, the first two, … hold."""
    return [_solved(points[: k + 1], normals[: k + 1]).rank for k in range(len(points))]


def better_place(points: Array, normals: Array, spots: Array, outward: Array) -> int:
    """Index of the spot (m, 3), with its normal (m, 3), that adds the most information to the places (n, 3) already chosen."""
    every = _linear(np.vstack([points, spots]), np.vstack([normals, outward]))
    there, offered = every.jacobian[: len(points)], every.jacobian[len(points) :]
    known = there.T @ there + LEAST * np.eye(6)
    gain = np.einsum("ij,jk,ik->i", offered, np.linalg.inv(known), offered)
    return int(np.argmax(gain))


def _touches(points: Array, normals: Array) -> Touches:
    n = len(points)
    ones = np.ones(n, np.int64)
    return Touches(points, points, normals, np.ones(n), np.arange(n, dtype=np.int64), ones)


def _linear(points: Array, normals: Array) -> Linear:
    return linearised(_touches(points, normals), Pose(Motion.identity()))


def _solved(points: Array, normals: Array) -> Solved:
    return solve(_touches(points, normals), Pose(Motion.identity()))
