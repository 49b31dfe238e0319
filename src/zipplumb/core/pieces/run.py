"""A characteristic over pieces, in the order in which they were measured: mean, spread, what stands out, and a trend."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import stats

from ..frames import Array

# mean and variance of the range of two of a normal distribution with standard deviation 1, and the covariance of two such
# ranges that share a value: closed forms from the moments of |x − y| (Cryer, Ryan: The Estimation of Sigma for an X Chart,
# Journal of Quality Technology 22, 1990)
D2 = 2 / np.sqrt(np.pi)
_CORNER = np.sqrt(1 - 0.25) + 0.5 * np.arcsin(0.5)
VAR_OF_RANGE, COV_OF_RANGES = 2 - D2**2, D2**2 * (_CORNER - 1)
IN_A_RUN = 9  # on one side of the mean: ISO 7870-2, as commonly practised (from memory)
FEWEST_FOR_TREND = 6  # of which each order may show a trend at SURE
FEWEST_FOR_CONTROL = 8  # common practice
SURE = 0.01


@dataclass(frozen=True)
class Trend:
    """``per_piece``: the median of all slopes (Theil 1950, Sen 1968); ``p``: by chance so much order is so likely (Kendall)."""

    per_piece: float
    p: float

    @property
    def proven(self) -> bool:
        return self.p < SURE


@dataclass(frozen=True)
class Control:
    """Whether what is seen is one process: a chart of individual values by their moving range (ISO 7870-2).

    ``s_within``: the standard deviation from one piece to the next, worth ``freedom`` degrees of freedom; ``beyond``: places
    of pieces that lie more than three of these off the mean; ``in_runs``: of those in a run of IN_A_RUN or more on one side.
    """

    s_within: float
    freedom: float
    beyond: tuple[int, ...]
    in_runs: tuple[int, ...]

    @property
    def stable(self) -> bool:
        return not self.beyond and not self.in_runs


@dataclass(frozen=True)
class Run:
    """``s``: standard deviation of the pieces, NaN of one; ``control``, ``trend``: None of too few pieces."""

    values: tuple[float, ...]
    mean: float
    s: float
    least: float
    most: float
    control: Control | None
    trend: Trend | None

    @property
    def n(self) -> int:
        return len(self.values)


def run_of(values: Sequence[float]) -> Run:
    """Of one value a piece at least, in their order. Raises ValueError for none, or for what is no number."""
    found = np.asarray(values, float)
    if not len(found) or not np.isfinite(found).all():
        raise ValueError("a run needs numbers")
    s = float(found.std(ddof=1)) if len(found) > 1 else float("nan")
    return Run(
        tuple(found.tolist()), float(found.mean()), s, float(found.min()), float(found.max()), _control(found), _trend(found)
    )  # fmt: skip


def _control(found: Array) -> Control | None:
    n = len(found)
    if n < FEWEST_FOR_CONTROL:
        return None
    within, off = float(np.abs(np.diff(found)).mean() / D2), found - found.mean()
    beyond = np.flatnonzero(np.abs(off) > 3 * within)
    return Control(within, freedom_of_ranges(n), tuple(beyond.tolist()), _runs(np.sign(off)))


def freedom_of_ranges(n: int) -> float:
    """Degrees of freedom of a standard deviation from the mean moving range of n values: those of a chi distribution of the
    same coefficient of variation."""
    steps = n - 1
    variance = (steps * VAR_OF_RANGE + 2 * (steps - 1) * COV_OF_RANGES) / steps**2
    return float(D2**2 / (2 * variance))


def _runs(sides: Array) -> tuple[int, ...]:
    """The places of those that stand in a run of IN_A_RUN or more on one side; what lies on the mean ends it."""
    ends = np.flatnonzero(np.diff(sides)) + 1
    found = [each for each in np.split(np.arange(len(sides)), ends) if len(each) >= IN_A_RUN and sides[each[0]]]
    return tuple(np.concatenate(found).tolist()) if found else ()


def _trend(found: Array) -> Trend | None:
    n = len(found)
    if n < FEWEST_FOR_TREND or not np.ptp(found):
        return None
    number = np.arange(n)
    return Trend(float(stats.theilslopes(found, number).slope), float(stats.kendalltau(number, found).pvalue))
