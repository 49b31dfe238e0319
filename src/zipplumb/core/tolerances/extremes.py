"""Bias and uncertainty of the extreme of many hits: noise moves the largest of n values outward, the more the larger n is.

The largest of n hits that each err lies, in the mean, above the largest true place. Given where the hits truly lie, as
near as that is known, its distribution is the product of theirs (order statistics; H. A. David, H. N. Nagaraja, "Order
Statistics", 3rd ed., chapter 2). JCGM 100, F.2.4.5, for an effect that is known and not corrected.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from scipy import special
from scipy.optimize import brentq

from ..frames import Array
from ..kernels import largest_of
from ..uncertainty import TWO_SIGMA

SEEN = 0.1  # a bias beside the standard uncertainty
FAR, STEPS, MOST = 6.0, 49, 150  # in standard uncertainties; places looked at; hits looked at one by one


def excess(places: Array, u_mm: float) -> tuple[float, float]:
    """By how much the largest of some places (n,) that each err by ``u_mm`` is above the largest, in the mean, and how
    much that varies (standard deviation)."""
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


def drawn_outward(signed: Array, u_mm: float, about: bool) -> tuple[float, Callable[[float], float | None]]:
    """Of a zone: the standard uncertainty (mm) that its extreme hits give it, and what its U is with another one beside it;
    that is None where it is no more than usual.

    Parameters
    ----------
    signed : (n,) how far the places lie to the one side
    about : the zone is twice the farthest from zero, and not their range
    """
    if about:
        bias, own = (2 * value for value in excess(np.concatenate([signed, -signed]), u_mm))
    else:
        (high, over), (low, under) = excess(signed, u_mm), excess(-signed, u_mm)
        bias, own = high + low, float(np.hypot(over, under))

    def near(beside: float) -> float | None:
        spread = float(np.hypot(own, beside))
        return within(bias, spread) if bias > SEEN * spread else None

    return own, near


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
