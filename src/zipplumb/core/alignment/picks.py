"""Places on surfaces before they are touched: what each of them would hold, and where another one would tell the most.

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
    """What touches at some places (n, 3) would hold along the normals there, were everything where it should be."""
    return ledger_of(_solved(points, normals), names)


def ranks_of_places(points: Array, normals: Array) -> list[int]:
    """How many freedoms the first, the first two, … hold."""
    return [_solved(points[: k + 1], normals[: k + 1]).rank for k in range(len(points))]


def better_place(points: Array, normals: Array, spots: Array, outward: Array) -> int:
    """Which of some spots (m, 3), with normals (m, 3), would tell the most beside the places (n, 3) that there are."""
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
