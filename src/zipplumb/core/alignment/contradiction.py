"""Whether the spare holds of an alignment contradict each other.

The global test and the test of one hold against the others: W. Baarda, "A testing procedure for use in
geodetic networks" (1968), with the covariance of the residuals that all sources of uncertainty together make.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

from ..frames import Array
from ..uncertainty import Source, Uncertainty
from ..units import mm
from .touches import Solved

SHARE = 0.999  # of alignments without a contradiction that pass
ALIKE = 0.95  # of what the most suspect one explains: what explains as much may as well be wrong
SAME = 1e-9  # of the largest variance: what is smaller is no spare hold


@dataclass(frozen=True, eq=False)
class Contradiction:
    """The result of the test of spare holds against each other.

    Attributes
    ----------
    factor : how many times larger than expected the square of what is seen is
    suspects : the row that disagrees with the others, or those that one cannot tell apart
    moves : (k, m) how far each suspect's error moves the part, about its origin
    """

    factor: float
    suspects: tuple[str, ...]
    moves: Array
    words: str

    def widened(self, uncertainty: Uncertainty) -> Uncertainty:
        """The uncertainty widened to what the residuals show: the others by their scatter, and the place by what a suspect does
        to it."""
        source, size = Source("contradiction"), uncertainty.size
        scatter = Uncertainty.of_covariance(source, max(self.factor - 1, 0.0) * uncertainty.covariance)
        return uncertainty.beside(scatter).beside(Uncertainty(size, {source: self.moves}))


def contradiction_of(solved: Solved, residuals: Uncertainty, names: Sequence[str]) -> Contradiction | None:
    """The contradiction, where there is one.

    Parameters
    ----------
    residuals : how the touches may differ, by source
    names : of the rows
    """
    seen = solved.linear.residuals
    stated = residuals.covariance.copy()
    stated[np.diag_indices_from(stated)] += np.maximum(solved.touches.u_mm**2 - np.diag(stated), 0.0)
    left = np.eye(len(seen)) - solved.linear.jacobian @ solved.gain
    values, vectors = np.linalg.eigh(left @ stated @ left.T)
    spare = values > SAME * float(np.diag(stated).max())
    count = int(spare.sum())
    if not count:
        return None
    statistic = float(np.sum((vectors[:, spare].T @ seen) ** 2 / values[spare]))
    if statistic <= special.chdtri(count, 1 - SHARE):
        return None
    explained = _explained(solved, seen, stated, left)
    alone, off = max((share, float(np.abs(off).max(initial=0.0))) for share, off in explained)
    rows = [row for row, (share, _) in enumerate(explained) if share > ALIKE * alone]
    suspects = tuple(names[row] for row in rows)
    moves = [solved.about_origin @ solved.gain[:, solved.touches.row == row] @ explained[row][1] for row in rows]
    if len(suspects) > 1:
        who = f"Nothing tells which is wrong: {', '.join(suspects[:-1])} or {suspects[-1]}. Hold the part by one more."
    elif statistic - alone <= special.chdtri(max(count - 1, 1), 1 - SHARE):
        who = f"{suspects[0]} disagrees with the others by {mm(off, '.3f')}. Look at it, or take it out."
    else:
        who = f"More than one disagrees, {suspects[0]} the most, by {mm(off, '.3f')}. Look at it, or take it out."
    words = f"The spare holds contradict each other, so nothing judged here is proven. {who}"
    return Contradiction(statistic / count, suspects, np.array(moves).T, words)


def _explained(solved: Solved, seen: Array, stated: Array, left: Array) -> list[tuple[float, Array]]:
    """For each row, how much of the misfit an error of it alone explains, and how far each of its touches then is off, mm."""
    weights = np.linalg.inv(stated)
    of_seen = weights @ (left @ stated @ left.T) @ weights
    found = []
    for row in range(int(solved.touches.row.max()) + 1):
        mine = solved.touches.row == row
        room = of_seen[np.ix_(mine, mine)]
        values, vectors = np.linalg.eigh((room + room.T) / 2)
        good = values > SAME * max(float(np.diag(weights).max()), 0.0)
        pull = vectors[:, good].T @ (weights @ seen)[mine]
        found.append((float(np.sum(pull**2 / values[good])), vectors[:, good] @ (pull / values[good])))
    return found
