"""The distribution of the largest of many places that each err."""

from __future__ import annotations

import math

from numba import njit

from .compiled import COMPILED


@njit("UniTuple(f8, 2)(f8[::1], f8[::1], f8, i8)", **COMPILED)
def largest_of(below, stands_for, far, steps):
    """Mean and standard deviation of the largest of n normal numbers of unit deviation, above the largest of their means.

    ``below`` (n,): how far each mean is below the largest; ``stands_for`` (n,): how many such there are. The product of the
    distributions is looked at at so many ``steps`` from -``far`` to ``far``.
    """
    wide = 2 * far / (steps - 1)
    mean = square = last = 0.0
    for k in range(steps):
        at = -far + k * wide
        logs = 0.0
        for i in range(len(below)):
            logs += stands_for[i] * math.log(0.5 * math.erfc(-(at + below[i]) / math.sqrt(2.0)))
        share = math.exp(logs)
        if k == 0:
            mean, square = at * share, at * at * share
        else:
            middle, weight = at - wide / 2, share - last
            mean += weight * middle
            square += weight * (middle * middle - wide * wide / 12)
        last = share
    return mean, math.sqrt(max(square - mean * mean, 0.0))
