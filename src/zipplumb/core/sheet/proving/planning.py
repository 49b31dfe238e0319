"""A plan that proves: how many hits each row needs, and where, before anything is touched.

The sheet is worked out as if the part were in the middle of its tolerances and were touched as little as is good practice; then
hits are added one after the other, each where it lessens the most of what is still too uncertain, whatever rests on it (greedy
choice, c-optimal for what is judged, see ``places``; what is worth less by now is looked at again only when its turn comes:
M. Minoux, Accelerated greedy algorithms for maximizing submodular set functions, 1978).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from heapq import heapify, heappop, heappush

import numpy as np
from scipy.spatial import cKDTree

from ...frames import Array
from ...uncertainty import Source
from ..results import Characteristic, RowResult
from .places import MayBeTouched, gains, left_after, may_be_touched
from .rehearsal import ExpectedTouches

MOST_OF_A_ROW = 60
ROUNDS = 4  # of working the plan out as a whole, the first to see what cannot be proven
HOPE = 1.1  # times as uncertain as is wanted after the first, with which a row may still be proven
TIGHTER = 0.98  # from round to round: what is foretold of a hit falls a little short
NO_MORE = 1e-4  # of what is wanted, by which a hit must lessen what is left

Rehearsed = Callable[[Mapping[int, ExpectedTouches]], Mapping[int, RowResult]]
Progress = Callable[[float], None]


@dataclass(frozen=True, eq=False)
class RowProof:
    """What is to be expected of one judged row: U of the characteristic that is the farthest from proven, and how large it may
    be; ``source``: what leaves the most of it open where it is too much, of what no hits lessen if that alone is."""

    key: str
    U: float
    wanted: float
    source: Source | None = None

    @property
    def proven(self) -> bool:
        return self.wanted >= self.U


@dataclass(frozen=True, eq=False)
class ProvingPlan:
    """``touched``: by row, where; ``proofs``: by row that is judged."""

    touched: Mapping[int, ExpectedTouches]
    proofs: Mapping[int, RowProof]

    @property
    def hits(self) -> int:
        return sum(len(each.centers) for each in self.touched.values())

    @property
    def proven(self) -> int:
        return sum(proof.proven for proof in self.proofs.values())


def wanted_of(found: Characteristic, share: float) -> float | None:
    """How uncertain (U) a characteristic may be so that a part is proven that uses a share of its tolerance; None without
    limits."""
    sides = [abs(limit) for limit in (found.lower, found.upper) if limit is not None]
    if not sides:
        return None
    if len(sides) == 2:
        return (1 - share) * (found.upper - found.lower) / 2  # type: ignore[operator]
    return (1 - share) * sides[0]


def proofs_of(results: Mapping[int, RowResult], share: float) -> dict[int, RowProof]:
    """Of every row that is judged, its worst."""
    found = {}
    for row, result in results.items():
        each = [_proof(c, wanted) for c, wanted in _judged(result, share)]
        if each:
            found[row] = max(each, key=lambda proof: proof.U / max(proof.wanted, 1e-12))
    return found


def _judged(result: RowResult, share: float) -> list[tuple[Characteristic, float]]:
    known = [
        (c, wanted_of(c, share)) for c in result.characteristics if c.actual is not None and c.uncertainty.size and not c.held
    ]
    return [(c, wanted) for c, wanted in known if wanted is not None]


def _proof(found: Characteristic, wanted: float) -> RowProof:
    U, budget = found.U or 0.0, found.uncertainty.budget()
    if wanted >= U or not budget:
        return RowProof(found.key, U, wanted)
    stays = [source for source, _ in budget if source.what != "hits"]
    alone = np.sqrt(_fixed(found)) * U / max(found.uncertainty.u(), 1e-12)
    return RowProof(found.key, U, wanted, stays[0] if alone > wanted else budget[0][0])


def plan_that_proves(
    rehearsed: Rehearsed,
    places: Mapping[int, ExpectedTouches],
    least: Mapping[int, ExpectedTouches],
    stand: Array,
    share: float,
    told: Progress = lambda share: None,
) -> ProvingPlan:
    """The fewest hits by which all is proven that can be.

    Parameters
    ----------
    rehearsed : the sheet worked out as it would be with such touches
    places : by row, all places where it may be touched; as many as ``least`` of one that takes no more
    least : by row, the places by which it is touched at least
    stand : (3,) where the instrument stands, in the part
    share : of its tolerance that a part uses
    """
    first = rehearsed(least)
    told(1 / (ROUNDS + 2))
    _, results = _grown(rehearsed, places, least, first, stand, share, frozenset(), range(1), told)
    hopeless = frozenset(row for row, proof in proofs_of(results, share).items() if HOPE * proof.wanted < proof.U)
    touched, results = _grown(rehearsed, places, least, first, stand, share, hopeless, range(1, ROUNDS), told)
    told(1.0)
    return ProvingPlan(touched, proofs_of(results, share))


def _grown(
    rehearsed: Rehearsed,
    places: Mapping[int, ExpectedTouches],
    least: Mapping[int, ExpectedTouches],
    first: Mapping[int, RowResult],
    stand: Array,
    share: float,
    hopeless: frozenset[int],
    rounds: range,
    told: Progress,
) -> tuple[Mapping[int, ExpectedTouches], Mapping[int, RowResult]]:
    """With as many hits more as are needed by all rows but the ``hopeless``, on which none are wasted."""
    touched, results, tight = dict(least), first, 1.0
    for round_ in rounds:
        told((1 + round_) / (ROUNDS + 1))
        wants = _Wants.of({row: found for row, found in results.items() if row not in hopeless}, share, tight)
        more = _more(results, touched, places, stand, wants)
        if not more:
            break
        touched = {row: _with(each, places[row], more.get(row, [])) for row, each in touched.items()}
        results = rehearsed(touched)
        tight *= TIGHTER
    return touched, results


def _with(touches: ExpectedTouches, places: ExpectedTouches, more: list[int]) -> ExpectedTouches:
    if not more:
        return touches
    return ExpectedTouches(
        np.vstack([touches.centers, places.centers[more]]), np.vstack([touches.outward, places.outward[more]])
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Wants:
    """What is judged and too uncertain: ``judged``; ``over`` (j,): variance that is too much of each; ``wanted`` (j,)."""

    judged: list[Characteristic]
    over: Array
    wanted: Array

    @classmethod
    def of(cls, results: Mapping[int, RowResult], share: float, tight: float) -> _Wants:
        judged, over, allowed = [], [], []
        for result in results.values():
            for c, wanted in _judged(result, share):
                u = c.uncertainty.u()
                may = (tight * wanted * u / max(c.U or 0.0, 1e-12)) ** 2
                if c.U is not None and np.isfinite(c.U) and u**2 > may > 0 and _fixed(c) < may:
                    judged.append(c)
                    over.append(u**2 - may)
                    allowed.append(may)
        return cls(judged, np.array(over), np.array(allowed))


def _fixed(found: Characteristic) -> float:
    """The variance that no hits lessen."""
    return sum(share**2 for source, share in found.uncertainty.budget() if source.what != "hits")


class _Growing:
    """One row while hits are added: its best next place, by what that lessens of all that is still too uncertain."""

    def __init__(self, may: MayBeTouched, index: list[int], which: list[int], terms: Array, free: int):
        self.may, self.index, self.which, self.terms, self.free = may, index, which, terms, free
        self.left, self.chosen = np.eye(may.tells.shape[1]), np.zeros(len(may.places), int)
        self.best, self.worth, self.gain, self.looked = 0, 0.0, np.zeros(len(which)), 0

    def look(self, over: Array, wanted: Array, taken: int = 0) -> None:
        """``taken``: how many hits of all rows were, until now."""
        self.looked = taken
        each = gains(self.may.tells, self.terms, self.may.sigma, self.left)
        worth = (np.minimum(each, np.maximum(over[self.which], 0.0)) / wanted[self.which]).sum(axis=1)
        worth = np.where(self.chosen == self.chosen.min(), worth, -1.0)
        self.best = int(np.argmax(worth))
        self.worth, self.gain = (float(worth[self.best]) if self.free else -1.0), each[self.best]

    def take(self) -> int:
        self.left = left_after(self.left, self.may.tells[self.best], self.may.sigma)
        self.chosen[self.best] += 1
        self.free -= 1
        return self.index[self.best]


def _more(
    results: Mapping[int, RowResult],
    touched: Mapping[int, ExpectedTouches],
    places: Mapping[int, ExpectedTouches],
    stand: Array,
    wants: _Wants,
) -> dict[int, list[int]]:
    """By row, which of its places are touched besides, in turn."""
    growing = {
        row: grown for row, each in touched.items()
        if (grown := _growing(row, results[row], len(each.centers), places[row], stand, wants.judged)) is not None
    }  # fmt: skip
    over = wants.over.copy()
    found: dict[int, list[int]] = {row: [] for row in growing}
    for each in growing.values():
        each.look(over, wants.wanted)
    queue = [(-each.worth, row) for row, each in growing.items()]
    heapify(queue)
    taken = 0
    while queue and (over > 0).any():
        worth, row = heappop(queue)
        best = growing[row]
        if best.looked < taken:  # what others gave it since made its own hits worth less: it waits its turn anew
            best.look(over, wants.wanted, taken)
        elif -worth < NO_MORE:
            break
        else:
            over[best.which] -= best.gain
            found[row].append(best.take())
            taken += 1
            best.look(over, wants.wanted, taken)
        heappush(queue, (-best.worth, row))
    return {row: chosen for row, chosen in found.items() if chosen}


def _growing(
    row: int, found: RowResult, hits: int, places: ExpectedTouches, stand: Array, judged: list[Characteristic]
) -> _Growing | None:
    source = Source("hits", row)
    may = None if found.feature is None else may_be_touched(row, found.feature, places.centers - stand)
    if may is None:
        return None
    terms = [c.uncertainty.by_source.get(source) for c in judged]
    which = [k for k, term in enumerate(terms) if term is not None and term.shape[1] == may.tells.shape[1]]
    if not which or hits >= min(MOST_OF_A_ROW, len(places.centers)):
        return None
    index = cKDTree(places.centers - stand).query(may.places)[1].tolist()
    return _Growing(may, index, which, np.array([terms[k][0] for k in which]), MOST_OF_A_ROW - hits)  # type: ignore[index]
