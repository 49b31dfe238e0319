"""Whether errors are as large as is stated of them: drawn in seeded runs, with a bound that is known.

An error in units of its standard uncertainty has a mean square of one, which n of them tell to √(2/n) (chi-square). So 500
runs find a u that is 10 % too small or too large as surely as counting a 95 % region does in 2,000. Both are looked at: the
mean square, and how many a 95.45 % region holds (binomial); each is wrong but for 1 time in 1,000, and the seeds are fixed.
Published: JCGM 101 (propagation of distributions), JCGM 102 (regions); the two distributions are SciPy's.
"""

from collections import defaultdict
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from scipy import special, stats

from zipplumb.core.features import Feature
from zipplumb.core.frames import Array
from zipplumb.core.uncertainty import TWO_SIGMA, squared_distance

RUNS = 500
RARE = 1e-3


class Stated:
    """Errors of many runs in units of what is stated of them, by name."""

    def __init__(self):
        self.squares, self.ways, self.inside = (defaultdict(list) for _ in range(3))

    def saw(self, name, error, U):
        """An error, and U (k = 2) of a normal distribution."""
        self._saw(name, (2 * error / U) ** 2, 1)

    def saw_place(self, name, deviation, covariance):
        """A deviation (k,) with its covariance (k, k)."""
        self._saw(name, *squared_distance(deviation, covariance))

    def _saw(self, name, square, ways):
        self.squares[name].append(square)
        self.ways[name].append(ways)
        self.inside[name].append(square <= special.chdtri(ways, 1 - TWO_SIGMA))

    def root_mean_square(self, name):
        return float(np.sqrt(sum(self.squares[name]) / sum(self.ways[name])))

    def share(self, name):
        return float(np.mean(self.inside[name]))

    def must_hold(self, *names):
        """Of each name the errors are as large as stated, neither larger nor smaller."""
        for name in names or self.squares:
            assert self.holds(name), (name, self.root_mean_square(name), self.share(name))

    def holds(self, name):
        ways = sum(self.ways[name])
        low, high = np.sqrt(stats.chi2.ppf([RARE / 2, 1 - RARE / 2], ways) / ways)
        return low <= self.root_mean_square(name) <= high and self.covers(name)

    def covers(self, name):
        """By the count alone: for errors that are not normal, as of the extreme of many."""
        fewest, most = stats.binom.ppf([RARE / 2, 1 - RARE / 2], len(self.inside[name]), TWO_SIGMA)
        return fewest <= sum(self.inside[name]) <= most


def monte_carlo(
    function: Callable[..., Any], features: Sequence[Feature], runs: int, random: np.random.Generator
) -> tuple[Array, Array]:
    """Mean (k,) and covariance (k, k) of ``function`` over features drawn at random (JCGM 101).

    Each feature is drawn by itself: what they share is not.
    """
    drawn = np.array([np.atleast_1d(function(*(f.drawn(random) for f in features))) for _ in range(runs)])
    return drawn.mean(axis=0), np.atleast_2d(np.cov(drawn, rowvar=False))


def inside_region(deviation: Array, covariance: Array, spare: float = np.inf, share: float = 0.95) -> bool:
    """Whether a deviation (k,) lies in the ellipsoid that is to hold the truth with that share.

    Source: JCGM 102, 6.5; with ``spare`` degrees of freedom the F distribution takes the place of
    the chi-square. Directions without uncertainty are left out.
    """
    square, k = squared_distance(deviation, covariance)
    if np.isinf(spare):
        return bool(square <= special.chdtri(k, 1 - share))
    return bool(square <= k * special.fdtri(k, spare, share))
