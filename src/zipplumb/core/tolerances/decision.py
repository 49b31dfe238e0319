"""In, out, or not proven.

Source of the rule: ISO 14253-1 and JCGM 106, with a guard band equal to the expanded
uncertainty U: conformity is proven only inside the limits less U, non-conformity only
outside the limits plus U.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from ..errors import PlumbError

Word = Literal["in", "close", "out", "not proven"]
Rule = Literal["proven", "simple"]
# by rule, the guard band as a share of U: in and out only beyond U (ISO 14253-1), or by the value alone (simple acceptance)
GUARD: dict[Rule, float] = {"proven": 1.0, "simple": 0.0}
CLOSE = 0.75  # share of the tolerance used from which a result is called close


@dataclass(frozen=True)
class Verdict:
    """A decision.

    Attributes
    ----------
    word : "in", "close" (in, with over 75 % of the tolerance used), "out" or "not proven"
    used : float, share of the tolerance used, from its middle, or with one limit from zero; above 1 is outside
    out_by : float, how far beyond the nearer limit; 0 inside
    """

    word: Word
    used: float
    out_by: float


def judge(deviation: float, lower: float, upper: float, U: float = 0.0, rounding: float = 0.0) -> Verdict:
    """Judge a deviation against its limits; all in mm, or all in rad.

    Parameters
    ----------
    deviation : actual - nominal
    lower, upper : the limits of the deviation, lower <= upper; infinite where there is none
    U : expanded uncertainty (95.45 %) of the deviation; infinite where it is not known
    rounding : by how much the deviation may differ from what exact arithmetic gives

    Raises
    ------
    PlumbError
        A deviation, limit or uncertainty that is no number.

    Examples
    --------
    >>> [judge(deviation, -0.1, 0.1, U=0.02).word for deviation in (0.03, 0.078, 0.09, 0.11, 0.13)]
    ['in', 'close', 'not proven', 'not proven', 'out']
    """
    if not math.isfinite(deviation) or any(math.isnan(v) for v in (lower, upper, U)) or U < 0:
        raise PlumbError("The result is no number, so it cannot be judged.", "All hits are kept.", "Look at its hits.")
    over = max(deviation - upper, lower - deviation)
    out_by = over if over > rounding else 0.0
    used = _used(deviation, lower, upper)
    if not out_by and math.isclose(used, 1.0, rel_tol=1e-9):
        used = min(used, 1.0)
    if out_by > U + rounding:
        return Verdict("out", used, out_by)
    if over > rounding - U:
        return Verdict("not proven", used, out_by)
    return Verdict("close" if used > CLOSE else "in", used, out_by)


def _used(deviation: float, lower: float, upper: float) -> float:
    if math.isinf(lower) and math.isinf(upper):
        return 0.0
    if math.isfinite(lower) and math.isfinite(upper):
        half, away = (upper - lower) / 2, abs(deviation - (upper + lower) / 2)
    else:
        limit = upper if math.isfinite(upper) else lower
        half, away = abs(limit), max(deviation * math.copysign(1.0, limit or (1.0 if math.isfinite(upper) else -1.0)), 0.0)
    if half > 0:
        return away / half
    return 0.0 if away == 0 else math.inf
