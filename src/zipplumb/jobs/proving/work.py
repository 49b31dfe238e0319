"""What acts take in this shop: as this job has shown them to take, and as is common where it has not yet."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise

import numpy as np

from ...core.sheet.proving.way import Work
from ..state.results import JobResults

FEW = 8  # times from which nothing is learnt
AT_WORK_S = 120.0  # a longer while is a break


def work_of(state: JobResults) -> Work:
    """By the times between the hits of one row, and between the last of one and the first of the next."""
    times = [np.sort(reading.times) for row, reading in state.readings.items() if _by_hits(state, row) and len(reading)]
    between = np.concatenate([np.diff(each) for each in times]) if times else np.empty(0)
    ends = sorted((float(each[0]), float(each[-1])) for each in times)
    onward = [first - last for (_, last), (first, _) in pairwise(ends)]
    usual = Work()
    return replace(usual, hit_s=_typical(between, usual.hit_s), row_s=_typical(onward, usual.row_s))


def _by_hits(state: JobResults, row: int) -> bool:
    return row in state.sheet.index and state.row(row).recipe.takes_hits


def _typical(times_s: Iterable[float], otherwise: float) -> float:
    while_working = [t for t in times_s if 0 < t < AT_WORK_S]
    return float(np.median(while_working)) if len(while_working) >= FEW else otherwise
