"""Capability and performance of a process by ISO 22514-2, with confidence bounds."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy import stats

from .run import Run, run_of

FEWEST = 10  # pieces, of which an index is said at all: its bounds are then about ± 45 %; common sense, no standard
ENOUGH = 25  # from which on it may stand without a warning: common practice
SURE = 0.95  # both bounds together
NORMAL = 0.005  # as likely as that at least, by Shapiro and Wilk
WhyNot = Literal["", "few", "no limits", "no spread", "not stable", "not normal", "at zero"]


@dataclass(frozen=True)
class Index:
    """``low``, ``high``: between which it lies with the confidence SURE."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class Capability:
    """``p``, ``pk``: performance, by the spread of all pieces; ``c``, ``ck``: capability, by the spread from one piece to the
    next, of a process that is stable; ``p`` and ``c`` of two limits only.

    ``why_not``: why there is no index at all; ``why_no_c``: why none of capability. ``by_logarithms``: of what cannot lie below
    zero. ``share_out``: of a process that stays as it is.
    """

    n: int
    p: Index | None = None
    pk: Index | None = None
    c: Index | None = None
    ck: Index | None = None
    why_not: WhyNot = ""
    why_no_c: WhyNot = ""
    by_logarithms: bool = False
    share_out: float | None = None

    @property
    def says_little(self) -> bool:
        return self.n < ENOUGH


def capability(run: Run, lower: float | None, upper: float | None, zero_bounded: bool = False) -> Capability:
    """What is said of the process that made some pieces.

    Parameters
    ----------
    run : its values
    lower, upper : their limits
    zero_bounded : the values are widths of zones, which cannot be less than zero: their logarithms are worked with, which is
        the same for the share that is out (ISO 22514-2, methods by a transformation to a normal distribution)

    Notes
    -----
    For a normal distribution the quantiles of ISO 22514-2 lie 3 s to either side of the mean. Bounds of P and C by the
    chi-square distribution of the variance; of Pk and Ck by Bissell, How Reliable is Your Capability Index?, Applied Statistics
    39 (1990), equation 5 (from memory, checked by simulation in the tests).
    """
    if lower is None and upper is None:
        return Capability(run.n, why_not="no limits")
    if run.n < FEWEST:
        return Capability(run.n, why_not="few")
    values = np.array(run.values)
    if zero_bounded:
        if values.min() <= 0 or upper is None or upper <= 0:
            return Capability(run.n, why_not="at zero")
        values, lower, upper = np.log(values), None, float(np.log(upper))
    s = float(values.std(ddof=1))
    if s <= 1e-12 * max(abs(values).max(), 1e-12):
        return Capability(run.n, why_not="no spread")
    if stats.shapiro(values).pvalue < NORMAL:
        return Capability(run.n, why_not="not normal", by_logarithms=zero_bounded)
    mean, freedom = float(values.mean()), float(run.n - 1)
    p, pk = _indices(mean, s, freedom, run.n, lower, upper)
    steady = run if not zero_bounded else run_of(values.tolist())
    out = sum(stats.norm.sf(each) for each in _reaches(mean, s, lower, upper))
    if run.control is None or steady.control is None or not (run.control.stable and steady.control.stable):
        return Capability(run.n, p, pk, why_no_c="not stable", by_logarithms=zero_bounded, share_out=float(out))
    c, ck = _indices(mean, steady.control.s_within, steady.control.freedom, run.n, lower, upper)
    return Capability(run.n, p, pk, c, ck, by_logarithms=zero_bounded, share_out=float(out))


def _reaches(mean: float, s: float, lower: float | None, upper: float | None) -> list[float]:
    """How many standard deviations it is from the mean to each limit."""
    found = (None if lower is None else (mean - lower) / s, None if upper is None else (upper - mean) / s)
    return [each for each in found if each is not None]


def _indices(
    mean: float, s: float, freedom: float, n: int, lower: float | None, upper: float | None
) -> tuple[Index | None, Index]:
    """Of both limits together, and of the nearer one."""
    k = min(_reaches(mean, s, lower, upper)) / 3
    off = float(stats.norm.ppf((1 + SURE) / 2) * np.sqrt(1 / (9 * n) + k**2 / (2 * freedom)))
    if lower is None or upper is None:
        return None, Index(k, k - off, k + off)
    whole = (upper - lower) / (6 * s)
    low, high = (float(whole * np.sqrt(stats.chi2.ppf(q, freedom) / freedom)) for q in ((1 - SURE) / 2, (1 + SURE) / 2))
    return Index(whole, low, high), Index(k, k - off, k + off)
