"""Whether the spare holds of an alignment contradict each other.

The global test and the test of one hold against the others: W. Baarda, "A testing procedure for use in
geodetic networks" (1968), with the covariance of the residuals that all sources of uncertainty together make. How
large an error is, is told only in directions that the others see: of a redundancy below 0.1 it is badly, below 0.01 not
controlled (W. Förstner, "Reliability analysis of parameter estimation in linear models", 1987; the classes from memory).
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
CONTROLLED = 0.1  # redundancy of a direction in which an error can be told
SEEN = 0.01  # of one in which it counts, where it is beyond chance


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
    alone = max(error.share for error in explained)
    rows = [row for row, error in enumerate(explained) if error.share > ALIKE * alone]
    suspects = tuple(names[row] for row in rows)
    moves = [solved.about_origin @ solved.gain[:, solved.touches.row == row] @ explained[row].counts for row in rows]
    mine = solved.touches.row == rows[0]
    off = _off_words(explained[rows[0]], seen[mine], np.sqrt(np.diag(left @ stated @ left.T))[mine])
    if len(suspects) > 1:
        who = f"Nothing tells which is wrong: {', '.join(suspects[:-1])} or {suspects[-1]}. Hold the part by one more."
    elif statistic - alone <= special.chdtri(max(count - 1, 1), 1 - SHARE):
        who = f"{suspects[0]} disagrees with the others{off}. Look at it, or take it out."
    else:
        who = f"More than one disagrees, {suspects[0]} the most{off}. Look at it, or take it out."
    words = f"The spare holds contradict each other, so nothing judged here is proven. {who}"
    return Contradiction(statistic / count, suspects, np.array(moves).T, words)


@dataclass(frozen=True, eq=False)
class _Error:
    """An error of one row alone: ``share``, of the misfit, that it explains; ``told`` and ``counts`` (m,), how far each of its
    touches then is off, mm: in the directions that are well controlled, and in those in which it is seen beyond chance."""

    share: float
    told: Array
    counts: Array


def _explained(solved: Solved, seen: Array, stated: Array, left: Array) -> list[_Error]:
    """For each row, what an error of it alone explains."""
    weights: Array = np.linalg.inv(stated).astype(float)
    of_seen = weights @ (left @ stated @ left.T) @ weights
    return [_alone(solved.touches.row == row, weights, of_seen, seen) for row in range(int(solved.touches.row.max()) + 1)]


def _alone(mine: Array, weights: Array, of_seen: Array, seen: Array) -> _Error:
    """Its directions are those of equal redundancy: what of an error in them the others see, 0 to 1."""
    own, vectors = np.linalg.eigh(weights[np.ix_(mine, mine)])
    root = vectors / np.sqrt(own)
    room = root.T @ of_seen[np.ix_(mine, mine)] @ root
    redundancy, turned = np.linalg.eigh((room + room.T) / 2)
    directions = root @ turned
    pull = directions.T @ (weights @ seen)[mine]
    good = redundancy > SAME
    square = np.where(good, pull**2 / np.where(good, redundancy, 1.0), 0.0)
    size = np.where(good, pull / np.where(good, redundancy, 1.0), 0.0)
    beyond_chance = (redundancy > SEEN) & (square > special.chdtri(1, 1 - SHARE))
    counts = directions @ np.where((redundancy > CONTROLLED) | beyond_chance, size, 0.0)
    return _Error(float(square.sum()), directions @ np.where(redundancy > CONTROLLED, size, 0.0), counts)


def _off_words(error: _Error, seen: Array, u_seen: Array) -> str:
    """By how much, where that can be told, and what is left at it: the residual that is the largest by its own U."""
    times = np.abs(seen) / (2 * np.maximum(u_seen, 1e-12))
    worst = int(np.argmax(times))
    left = f"{mm(abs(float(seen[worst])), '.3f')} is left at it, {times[worst]:.1f} times its U"
    told = float(np.abs(error.told).max(initial=0.0))
    return f" by {mm(told, '.3f')}: {left}" if told > 0 else f": {left}"
