"""What stands in the way of many rows at once: surfaces whose hits leave open what is judged by them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ...frames import Array
from ...uncertainty import Source
from .chance import Outlook, open_characteristics
from .places import in_turn, may_be_touched
from .standing import Standing
from .way import Work
from .ways import MOST_HITS, WORTH, Spots

LOOKED_AT = 60  # rows, those first on which the most rests that is not proven
NEARLY = 0.98  # of what as many hits as may be would settle
LEAST = 0.75  # of a row, for what settles it to be told
WORKED_OUT = 4  # of the best, to the end
OF_EACH = 30  # rows that are judged anew for it; what the others come to is told by their Jacobians


@dataclass(frozen=True, eq=False)
class Cause:
    """More hits on one row, where they tell the most of all that rests on it.

    ``chances``: by each row that is not proven and rests on it, how likely it is settled then; ``places`` (n, 3) of the tip's
    center, ``aims`` (n, 3) on its surface, in the world; ``work_s``: what they take.
    """

    row: int
    chances: Mapping[int, float]
    places: Array
    aims: Array
    work_s: float

    @property
    def rows(self) -> tuple[int, ...]:
        """Those that rest on it."""
        return tuple(self.chances)

    @cached_property
    def settled(self) -> float:
        """So many of these rows are likely settled then."""
        return sum(self.chances.values())

    def order(self) -> float:
        return -self.settled / self.work_s


def causes(at: Standing, spots: Spots, work: Work) -> list[Cause]:
    """What would settle the most for its work, first."""
    open_ = [(row, Outlook(c)) for row, found in at.results.items() for c in open_characteristics(found)]
    by_row: dict[int, list[tuple[int, Outlook]]] = {}
    for row, outlook in open_:
        whole = outlook.u**2
        for source, share in outlook.judged.uncertainty.budget():
            if source.what == "hits" and isinstance(source.whose, int) and share**2 > WORTH * whole:
                by_row.setdefault(source.whose, []).append((row, outlook))
    most = sorted((touched for touched in by_row if at.takes_more(touched)), key=lambda touched: -len(by_row[touched]))
    found = (_cause(at, touched, by_row[touched], spots, work) for touched in most[:LOOKED_AT])
    best = sorted((each for each in found if each is not None), key=Cause.order)
    told = [*(_worked_out(at, each) for each in best[:WORKED_OUT]), *best[WORKED_OUT:]]
    return sorted((each for each in told if each.settled >= LEAST), key=Cause.order)


def _worked_out(at: Standing, cause: Cause) -> Cause:
    """As it would be if these hits were there: what the row shares with others also answers to where it was touched."""
    some = cause.rows[:OF_EACH]
    then = at.with_more(some, {cause.row: cause.places})
    anew = {row: min(Outlook(c).chance_in(then[row]) for c in open_characteristics(at.results[row])) for row in some}
    return replace(cause, chances={**cause.chances, **anew})


def _cause(at: Standing, touched: int, judged: list[tuple[int, Outlook]], spots: Spots, work: Work) -> Cause | None:
    feature, source = at.results[touched].feature, Source("hits", touched)
    may = None if feature is None else may_be_touched(touched, feature, spots(touched))
    if may is None:
        return None
    rest = [(row, o) for row, o in judged if o.judged.uncertainty.by_source[source].shape[1] == may.tells.shape[1]]
    if not rest:
        return None
    outlooks = [outlook for _, outlook in rest]
    terms = np.array([outlook.judged.uncertainty.by_source[source][0] for outlook in outlooks])
    turn = in_turn(may, terms, MOST_HITS, np.array([1 / outlook.u**2 for outlook in outlooks]))
    gone = turn.before - turn.variances
    chances = np.array([_settles(o, source, turn.variances[:, k], gone[:, k]) for k, o in enumerate(outlooks)]).T
    of_row = {row: [k for k, (each, _) in enumerate(rest) if each == row] for row, _ in rest}
    by_count = {row: chances[:, k].min(axis=1) for row, k in of_row.items()}
    settled = np.sum(list(by_count.values()), axis=0)
    if settled.max() < LEAST:
        return None
    count = int(np.argmax(settled >= NEARLY * settled.max())) + 1
    likely = {row: float(by[count - 1]) for row, by in by_count.items()}
    return Cause(touched, likely, turn.first(count), turn.aims(count), work.row_s + count * work.hit_s)


def _settles(outlook: Outlook, source: Source, left: Array, gone: Array) -> Array:
    """How likely with one hit more, two, …: of the variance from their row so much is ``left``, and so much ``gone``."""
    u_then = np.sqrt(np.maximum(outlook.u**2 - gone, 0.0))
    k = outlook.k_then(u_then, {source: (left, 1 + np.arange(len(left)))})
    return np.asarray(outlook.joined(u_then, k * u_then))
