"""Why known points do not fit: two exchanged, a mirror image, another unit, one that is not where it should be.

What is tried is a similarity for each cause (Umeyama 1991); a cause is named only where it explains nearly all.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from ..errors import AlignmentError
from ..frames import Array
from ..units import MM_PER_INCH, mm
from .similarity import similarity

FEWEST, MOST = 3, 40  # points among which exchanged ones are looked for
EXPLAINS = 0.1  # of what is left, that a cause must leave at most


def likely_cause(names: Sequence[str], nominal: Array, actual: Array, u_mm: float) -> str:
    """A sentence where points (n, 3) do not fit and one simple cause would explain it; else "".

    Parameters
    ----------
    u_mm : what a point may be off without a cause
    """
    if not FEWEST <= len(names) <= MOST:
        return ""
    left = _left(actual, nominal)
    if left <= 4 * u_mm:
        return ""
    good = max(EXPLAINS * left, 2 * u_mm)
    found = _exchanged(names, nominal, actual, good) or _other_unit(nominal, actual, good) or _mirrored(nominal, actual, good)
    return found or _one_off(names, nominal, actual, good)


def _left(actual: Array, nominal: Array) -> float:
    """rms of the distances, mm, after the best motion."""
    try:
        pose = similarity(actual, nominal).motion
    except AlignmentError:
        return float("inf")
    return float(np.sqrt(np.mean(np.sum((pose.points(actual) - nominal) ** 2, axis=1))))


def _exchanged(names: Sequence[str], nominal: Array, actual: Array, good: float) -> str:
    best: tuple[float, tuple[int, int]] | None = None
    for one, other in combinations(range(len(names)), 2):
        order = np.arange(len(names))
        order[[one, other]] = other, one
        left = _left(actual[order], nominal)
        if left <= good and (best is None or left < best[0]):
            best = left, (one, other)
    if best is not None:
        one, other = best[1]
        return f"{names[one]} and {names[other]} fit if they are exchanged: were they touched in the other order?"
    backwards = _left(actual[::-1], nominal)
    return "They fit in the opposite order: was the list touched from its end?" if backwards <= good else ""


def _other_unit(nominal: Array, actual: Array, good: float) -> str:
    for factor, words in ((MM_PER_INCH, "inches read as mm"), (1 / MM_PER_INCH, "mm read as inches")):
        if _left(actual, factor * nominal) <= max(good, 0.01 * float(np.ptp(actual))):
            return f"They fit if the list is taken times {factor:.4g}: it holds {words}."
    return ""


def _mirrored(nominal: Array, actual: Array, good: float) -> str:
    spread = np.linalg.svd(nominal - nominal.mean(axis=0), compute_uv=False)
    if len(spread) < 3 or spread[2] < 1e-3 * spread[0]:  # flat: its mirror image is itself turned over
        return ""
    if _left(actual, nominal * np.array([1.0, 1.0, -1.0])) > good:
        return ""
    return "They fit as a mirror image only: is the sign of one axis wrong in the list?"


def _one_off(names: Sequence[str], nominal: Array, actual: Array, good: float) -> str:
    if len(names) < FEWEST + 2:
        return ""
    lefts = []
    for one in range(len(names)):
        others = np.arange(len(names)) != one
        lefts.append(_left(actual[others], nominal[others]))
    one = int(np.argmin(lefts))
    if lefts[one] > good or sorted(lefts)[1] <= good:
        return ""
    others = np.arange(len(names)) != one
    off = similarity(actual[others], nominal[others]).motion.points(actual[one]) - nominal[one]
    far = mm(float(np.linalg.norm(off)), ".3f")
    return f"All but {names[one]} fit; it lies {far} off: was another place touched, or did it move?"
