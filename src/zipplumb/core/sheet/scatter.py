"""The expected scatter of hits, and the test whether residuals exceed it."""

from __future__ import annotations

import numpy as np
from scipy import special

SURELY_WORSE = 0.01


def most_alone(stated_mm: float, spare: int) -> float:
    """The scatter (mm) that hits of a stated standard uncertainty hardly ever exceed: 1 time in 100 (chi-square)."""
    return float(stated_mm * np.sqrt(special.chdtri(spare, SURELY_WORSE) / spare)) if spare > 0 else np.inf


def surely_worse(stated_mm: float, seen_mm: float, spare: int) -> bool:
    """Hits scatter more than their maker's word alone explains: they show form, or are worse than stated."""
    return seen_mm > most_alone(stated_mm, spare)
