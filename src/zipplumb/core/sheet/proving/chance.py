"""How likely a row that is not proven is settled once more is known of it.

What is judged is found to be d, known to u. Once more is known it is found to be d', which differs from d by what was learnt:
where hits join those that are there, the variance of that is what u² falls by; where something is known anew in place of what
was known, the sum of both variances (preposterior analysis: Raiffa and Schlaifer, Applied Statistical Decision Theory, 1961;
the decision with a guard band: ISO 14253-1). Before anything was measured parts are taken to lie about the middle of their
tolerance, with a standard deviation of half of it (common practice: a process neither good nor hopeless); where there is but
one limit, anywhere.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from scipy.special import ndtr, stdtrit

from ...uncertainty import TWO_SIGMA, Source
from ..results import Characteristic, RowResult

SURE = 0.95  # how likely a way settles a row, for it to be called enough
LITTLE = 1e-9  # mm or rad
MANY = 1e6  # degrees of freedom from which on more of them change nothing
SPREAD = 0.5  # of the tolerance, by which parts are taken to differ


def open_characteristics(found: RowResult) -> list[Characteristic]:
    """Those of a row that are not proven though more certainty would prove them."""
    return [c for c in found.characteristics if c.verdict and c.verdict.word == "not proven" and not c.unproven]


def _student(freedom: Any) -> Any:
    """The factor of Student's t that covers as much as k = 2 does of what is known beforehand."""
    return stdtrit(np.clip(freedom, 1.0, MANY), (1 + TWO_SIGMA) / 2)


@dataclass(frozen=True, eq=False)
class Outlook:
    """What may become of a characteristic that is not proven, once more is known of it."""

    judged: Characteristic

    @cached_property
    def u(self) -> float:
        return max(self.judged.uncertainty.u(), LITTLE)

    @cached_property
    def k(self) -> float:
        """Of its U = k u, as it is now."""
        return (self.judged.U or 0.0) / self.u

    def k_then(self, u_then: Any, after: Mapping[Source, tuple[Any, Any]]) -> Any:
        """The k once more hits tell also how much hits scatter, which few of them leave open (Student's t; JCGM 100, G.4).

        ``after``: by source, what of the variance is left then, and how many hits came; arrays give an array.
        """
        told = self.judged.uncertainty
        if not any(source in told.spare for source in after):
            return self.k
        known = sum(
            (after[source][0] ** 2 / (spare + after[source][1]) if source in after else told.share(source) ** 4 / spare)
            for source, spare in told.spare.items()
        )  # fmt: skip
        freedom = np.asarray(u_then) ** 4 / np.maximum(known, LITTLE**4)
        return self.k * _student(freedom) / _student(told.freedom())

    @property
    def found(self) -> float:
        assert self.judged.deviation is not None
        return self.judged.deviation

    @cached_property
    def limits(self) -> tuple[float, float]:
        lower, upper = self.judged.lower, self.judged.upper
        return (-np.inf if lower is None else lower), (np.inf if upper is None else upper)

    @cached_property
    def margin(self) -> float:
        """How far its deviation is from the nearer limit; below that much U it is proven, if it stays where it is."""
        return min(abs(self.found - limit) for limit in self.limits)

    def again_in(self, found: RowResult) -> Characteristic | None:
        """The same of its row as it would be then; None where no certainty would prove it."""
        same = next((c for c in found.characteristics if (c.key, c.of) == (self.judged.key, self.judged.of)), None)
        return None if same is None or same.U is None or same.unproven else same

    def chance_in(self, found: RowResult) -> float:
        """How likely it is settled where more hits make its row what it would be then."""
        same = self.again_in(found)
        return 0.0 if same is None else float(self.joined(same.uncertainty.u(), same.U))

    @property
    def inside(self) -> bool:
        """It is found to lie within its limits."""
        return self.limits[0] <= self.found <= self.limits[1]

    @cached_property
    def _likely(self) -> tuple[float, float]:
        """Its error, by what is known of such parts: mean and variance."""
        width = self.limits[1] - self.limits[0]
        if not np.isfinite(width):
            return 0.0, self.u**2
        share = self.u**2 / (self.u**2 + (SPREAD * width) ** 2)
        return (self.found - (self.limits[0] + self.limits[1]) / 2) * share, self.u**2 * (1 - share)

    def joined(self, u_then: Any, U_then: Any) -> Any:
        """How likely it is settled where more of the same joins what is there, by which it is known to ``u_then``."""
        mean, variance = self._likely
        gain = np.clip(1 - (u_then / self.u) ** 2, 0.0, 1.0)
        return self._settled(gain * mean, gain**2 * variance + gain * np.minimum(u_then, self.u) ** 2, U_then)

    def anew(self, gone: float, factor: Any, U_then: Any) -> Any:
        """How likely where what makes ``gone`` of u² is known anew instead, ``factor`` times as uncertain."""
        mean, variance = self._likely
        share = min(gone / self.u**2, 1.0)
        return self._settled(share * mean, share**2 * variance + share * (1 - share) * self.u**2 + factor**2 * gone, U_then)

    def _settled(self, moved: Any, variance: Any, U_then: Any) -> Any:
        """Of a result that lies so far (mean, variance) below what is found now."""
        moves, mean = np.sqrt(np.maximum(variance, LITTLE**2)), self.found - moved
        lower, upper = self.limits
        inside = ndtr((upper - U_then - mean) / moves) - ndtr((lower + U_then - mean) / moves)
        out = ndtr((lower - U_then - mean) / moves) + ndtr((mean - upper - U_then) / moves)
        return np.maximum(inside, 0.0) + out
