"""Which targets of a detail are to be seen before it is said what to turn."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..frames import Array
from .adjusters import MOVED, Adjuster, answers_of
from .detail import middle_and_reach, moves_of, turns_as_lengths

TELLS = 1e-3  # share of a motion, by the targets' own reach, below which targets do not tell it


def wanted_first(seen: Array, to_see: Array, adjusters: Sequence[Adjuster]) -> list[int]:
    """The fewest places, of those not seen yet, without which not every motion that the adjusters make would show.

    A turn that is planned without them may spoil what is not looked at. None where what is seen tells all that they do, or
    as much as all places would.

    Parameters
    ----------
    seen, to_see : (n, 3), (k, 3) nominal places of targets that were seen, and of those that were not

    Returns
    -------
    Indices of ``to_see``, the one that tells most first.
    """
    places = np.vstack([seen, to_see])
    about, length = middle_and_reach(places)
    into = turns_as_lengths(length)
    answers, rows = answers_of(adjusters, about) * into, moves_of(places, about) * into

    def untold(which: Sequence[int]) -> int:
        """How many of the adjusters' motions may be otherwise, for all that some places tell."""
        _, s, vt = np.linalg.svd(rows[list(which)].reshape(-1, 6))
        free = vt[int(np.sum(s > TELLS)) :].T
        return int(np.sum(np.linalg.svd(answers @ free, compute_uv=False) > MOVED)) if free.size else 0

    def told(which: Sequence[int]) -> float:
        found = rows[list(which)].reshape(-1, 6)
        return float(np.linalg.slogdet(found.T @ found + TELLS**2 * np.eye(6))[1])

    known, found, left = list(range(len(seen))), [], list(range(len(seen), len(places)))
    while left and untold(known) > untold([*known, *left]):
        best = max(left, key=lambda k: told([*known, k]))
        known.append(best)
        left.remove(best)
        found.append(best - len(seen))
    return found
