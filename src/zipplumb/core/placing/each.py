"""Places that are moved one by one, each by the adjuster under it: the corners of a frame that gives."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..frames import Array
from .adjusters import COVERAGE, SETTLES_MM, Adjuster, Effect, TurnPlan, bounds, in_that_order, settable, turns_told, wiser

NONE_UNMOVED = np.zeros((6, 0))


def plan_each(
    off_mm: Array, u_mm: Array, zones_mm: Array, under: Sequence[int], adjusters: Sequence[Adjuster], effects: Sequence[Effect]
) -> TurnPlan:
    """The turns by which each adjuster brings the place over it to where that belongs.

    Parameters
    ----------
    off_mm : (n, 3) actual less where it belongs; u_mm : (n,) standard uncertainties of that; zones_mm : (n,)
    under : (m,) which of the n places each adjuster is under; no two under one
    """
    which = np.asarray(under, int)
    along = np.array([a.direction for a in adjusters]).reshape(-1, 3)
    lows, highs = bounds(adjusters, effects)
    wanted = np.clip(-np.einsum("mi,mi->m", along, off_mm[which]), lows, highs)
    moves, turns = settable(wanted, u_mm[which], adjusters, effects)
    left = off_mm.copy()
    left[which] += moves[:, None] * along
    told = turns_told(adjusters, wanted, moves, turns, (lows, highs))
    rests = bool(np.all(np.linalg.norm(off_mm, axis=1) + COVERAGE * u_mm <= zones_mm))
    inside = bool(np.all(np.linalg.norm(left, axis=1) <= zones_mm))
    carries = np.zeros((len(adjusters), len(off_mm), 3))
    carries[np.arange(len(adjusters)), which] = moves[:, None] * along
    if rests:
        return TurnPlan((), off_mm, inside, rests, NONE_UNMOVED, (), carries[:0])
    return TurnPlan(told, left, inside, rests, NONE_UNMOVED, (), in_that_order(carries, adjusters, told))


def learned_each(
    effects: Sequence[Effect], adjusters: Sequence[Adjuster], turns: Array, moved_mm: Array, u_mm: Array
) -> tuple[Effect, ...]:
    """Updated response of each adjuster after one round of turns (m,): movements (m, 3) of the places over them, with u
    (m,)."""
    return tuple(
        wiser(effect, float(turn), float(a.direction @ moved), float(u) ** 2 + SETTLES_MM**2)
        for effect, a, turn, moved, u in zip(effects, adjusters, turns, moved_mm, u_mm, strict=True)
    )
