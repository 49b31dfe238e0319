"""In, out, or not proven.

Source of the rule: ISO 14253-1 and JCGM 106, with a guard band equal to the expanded
uncertainty U: conformity is proven only inside the limits less U, non-conformity only
outside the limits plus U.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Word = Literal["in", "close", "out", "not proven"]
CLOSE = 0.75  # share of the tolerance used from which a result is called close


@dataclass(frozen=True)
class Verdict:
    """A decision.

    Attributes
    ----------
    word : "in", "close" (in, with over 75 % of the tolerance used), "out" or "not proven"
    used : float, share of the tolerance used, from its middle; above 1 is outside
    out_by_mm : float, how far beyond the nearer limit; 0 inside
    """

    word: Word
    used: float
    out_by_mm: float


def judge(deviation_mm: float, lower_mm: float, upper_mm: float, U_mm: float = 0.0) -> Verdict:
    """Judge a deviation against its limits; all in mm.

    Parameters
    ----------
    deviation_mm : actual - nominal
    lower_mm, upper_mm : the limits of the deviation, lower <= upper
    U_mm : expanded uncertainty (k = 2) of the deviation
    """
    middle, half = (upper_mm + lower_mm) / 2, (upper_mm - lower_mm) / 2
    away = abs(deviation_mm - middle)
    used = away / half if half > 0 else (0.0 if away == 0 else float("inf"))
    out_by = max(away - half, 0.0)
    if away - half > U_mm:
        return Verdict("out", used, out_by)
    if away + U_mm > half:
        return Verdict("not proven", used, out_by)
    return Verdict("close" if used > CLOSE else "in", used, out_by)
