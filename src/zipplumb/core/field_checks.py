"""Field checks of an instrument against its specification: known length, single point, two faces, drift nests.

Every check gives its result, the limit that it is held against, and a verdict. Limits are what
the maker states (maximum permissible errors) or are asked for; uncertainty of the check itself
guards the verdict as ISO 14253-1 does: within the limit less U it passes, beyond the limit and U
it fails, between it is not proven.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Literal

import numpy as np

from .alignment.similarity import similarity
from .errors import AlignmentError
from .frames import Array
from .units import mm

Verdict = Literal["pass", "fail", "not proven"]
KEPT = "The readings are kept."


@dataclass(frozen=True)
class Check:
    """``result_mm`` against ``limit_mm``, with the expanded uncertainty of the check, and what was found in words."""

    name: str
    result_mm: float
    limit_mm: float
    U_mm: float
    verdict: Verdict
    words: str


def judged(name: str, result: float, limit: float, U: float, words: str) -> Check:
    if not (np.isfinite([result, limit, U]).all() and limit > 0 and U >= 0):
        raise AlignmentError(f"The check “{name}” has no limit above zero.", KEPT, "Give the maker's, in mm.")
    verdict: Verdict = "pass" if abs(result) <= limit - U else "fail" if abs(result) > limit + U else "not proven"
    return Check(name, float(result), float(limit), float(U), verdict, words)


def _readings(name: str, points: Array, least: int) -> Array:
    array = np.asarray(points, float).reshape(-1, 3)
    if len(array) < least or not np.all(np.isfinite(array)):
        raise AlignmentError(f"“{name}” needs {least} readings; there are {len(array)}.", KEPT, "Take more.")
    return array


def known_length(ends: Array, length_mm: float, limit_mm: float, U_length_mm: float = 0.0) -> Check:
    """A measured length against its certificate.

    Parameters
    ----------
    ends : (n, 2, 3) both ends, measured n times over
    limit_mm : maximum permissible error of a length

    Notes
    -----
    The error of indication that is farthest from zero, as ISO 10360-12 (arms) and ISO 10360-10
    (trackers) take it.
    """
    pairs = np.asarray(ends, float)
    if pairs.ndim != 3 or pairs.shape[1:] != (2, 3) or not len(pairs) or not np.all(np.isfinite(pairs)):
        raise AlignmentError("A length needs both its ends.", KEPT, "Measure the two ends.")
    errors = np.linalg.norm(pairs[:, 1] - pairs[:, 0], axis=1) - length_mm
    worst = float(errors[np.argmax(np.abs(errors))])
    way = "long" if worst > 0 else "short"
    words = f"The length of {mm(length_mm)} came out {mm(abs(worst))} too {way}, the worst of {len(errors)}."
    return judged("known length", worst, limit_mm, U_length_mm, words)


def single_point(points: Array, limit_mm: float) -> Check:
    """One seat measured from many poses: how far apart the answers lie.

    Parameters
    ----------
    points : (n, 3) five or more, of one seat, from different poses of the arm
    limit_mm : maximum permissible value

    Notes
    -----
    Twice the largest distance from the mean place, the location value of articulated positions
    in ISO 10360-12 (from memory: the standard takes the smallest sphere's diameter round the
    places; twice the largest distance from their mean is never less).
    """
    places = _readings("single point", points, 5)
    off = np.linalg.norm(places - places.mean(axis=0), axis=1)
    worst = int(np.argmax(off))
    words = f"The seat's places lie within {mm(2 * off[worst])}; the one farthest off is number {worst + 1}."
    return judged("single point", 2 * float(off[worst]), limit_mm, 0.0, words)


def two_faces(front: Array, back: Array, limit_mm: float) -> Check:
    """Targets sighted in both faces of a tracker: the two answers should be one.

    Parameters
    ----------
    front, back : (n, 3) the same targets, in the instrument's axes
    limit_mm : maximum permissible distance

    Notes
    -----
    The distance across the line of sight between the two answers, as ISO 10360-10 (two-face
    test) defines it; the range has no second face.
    """
    first, second = _readings("two faces", front, 1), _readings("two faces", back, 1)
    if len(first) != len(second):
        raise AlignmentError("The faces did not see the same targets.", KEPT, "Sight every target in both faces.")
    sight = (first + second) / np.linalg.norm(first + second, axis=1)[:, None]
    gap = second - first
    across = np.linalg.norm(gap - np.einsum("ij,ij->i", gap, sight)[:, None] * sight, axis=1)
    worst = int(np.argmax(across))
    distance = np.linalg.norm(first[worst]) / 1000
    words = f"The two faces differ by {mm(across[worst])} at worst, at target {worst + 1}, {distance:.1f} m away."
    return judged("two faces", float(across[worst]), limit_mm, 0.0, words)


def drift(names: Sequence[str], before: Array, after: Array, limit_mm: float) -> Check:
    """Nests measured at the start and again: has the instrument, or the part, moved?

    Parameters
    ----------
    before, after : (n, 3) the same nests, in the instrument's axes
    limit_mm : how far a nest may have wandered
    """
    first, second = _readings("drift", before, 1), _readings("drift", after, 1)
    if not len(first) == len(second) == len(names):
        raise AlignmentError("Not every nest was measured twice.", KEPT, "Measure the missing ones.")
    gap = np.linalg.norm(second - first, axis=1)
    worst = int(np.argmax(gap))
    words = f"{names[worst]} wandered {mm(gap[worst])}, the farthest of {len(gap)}{_how_they_moved(first, second)}."
    return judged("drift", float(gap[worst]), limit_mm, 0.0, words)


def _how_they_moved(first: Array, second: Array) -> str:
    """Together, as if the instrument had moved, or each its own way; a turn can be found from four nests on."""
    moved = second - first
    size = float(np.sqrt(np.mean(np.sum(moved**2, axis=1))))
    left = [moved - moved.mean(axis=0)]
    if len(first) >= 4:
        with suppress(AlignmentError):  # nests on one line
            left.append(similarity(first, second).points(first) - second)
    apart = min(float(np.sqrt(np.mean(np.sum(rest**2, axis=1)))) for rest in left)
    if len(first) < 2 or size == 0:
        return ""
    if apart < 0.3 * size:
        return "; they moved all together, as if the instrument had moved"
    return (
        "; they moved each its own way"
        if len(first) >= 4
        else "; with a fourth nest it could be told whether the instrument turned"
    )
