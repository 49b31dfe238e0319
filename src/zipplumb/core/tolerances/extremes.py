"""Bias and uncertainty of the extreme of many hits: noise moves the largest of n values outward, the more the larger n is.

The largest of n hits that each err lies, in the mean, above the largest true place. Given where the hits truly lie, as
near as that is known, its distribution is the product of theirs (order statistics; H. A. David, H. N. Nagaraja, "Order
Statistics", 3rd ed., chapter 2). JCGM 100, F.2.4.5, for an effect that is known and not corrected.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import special
from scipy.optimize import brentq

from ..frames import Array
from ..kernels import largest_of
from ..uncertainty import TWO_SIGMA

FAR, STEPS, MOST = 6.0, 49, 150  # in standard uncertainties; places looked at; hits looked at one by one


def excess(places: Array, u_mm: float) -> tuple[float, float]:
    """Bias and standard deviation of the largest of some places (n,) that each err by ``u_mm``."""
    if not u_mm > 0:
        return 0.0, 0.0
    below = (places.max() - places) / u_mm
    near = np.sort(below[below < 2 * FAR])
    stands_for = np.ones(min(len(near), 2 * MOST))
    if len(near) > 2 * MOST:  # of those behind the first some are picked, each for several
        behind = (len(near) - MOST) / MOST
        picked = MOST + ((np.arange(MOST) + 0.5) * behind).astype(int)
        near, stands_for[MOST:] = np.concatenate([near[:MOST], near[picked]]), behind
    mean, spread = largest_of(near, stands_for, FAR, STEPS)
    return u_mm * mean, u_mm * spread


def within(bias: float, u: float) -> float:
    """U of a number that is off by a known bias and otherwise normal: what it differs by less than in 95.45 % of cases."""
    if not u > 0:
        return abs(bias)
    return u * _folded(round(abs(bias) / u, 3))


@lru_cache(maxsize=4096)
def _folded(ratio: float) -> float:
    def more(k: float) -> float:
        return float(special.ndtr(k - ratio) - special.ndtr(-k - ratio)) - TWO_SIGMA

    return float(brentq(more, 1.0, ratio + 3.0))
