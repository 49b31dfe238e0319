"""Looks for the ways that would settle a row that is not proven."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from ...alignment.hold import may_hold
from ...frames import Array, Indices
from ...network.observations import InstrumentClass
from ...readings import HitSet
from ...uncertainty import Source
from ..base import RowRecipe
from ..bases.systems import ActualFeature
from ..results import Characteristic, RowResult
from .chance import SURE, Outlook, open_characteristics
from .places import InTurn, MayBeTouched, in_turn, may_be_touched
from .standing import Standing, rests_on
from .way import AlsoHeld, FromNearer, KnownBetter, MoreHits, Settling, Way, Work

MOST_HITS = 40  # that are proposed at once
LIKELY = 0.75  # that another row is settled besides
HOPELESS = 0.2  # of u², under which what is gained of it makes nothing likely
WORTH = 0.03  # share of the variance that a source must make for it to be looked at
AT_ONCE = 3  # rows that are touched for one way
LOOKED_AT = 3  # ways by more hits that are worked out to the end
MORE = 1.3  # as many, where so many were not enough after all
BETTER = (0.7, 0.5, 0.35, 0.25)  # times as uncertain: what is done again with care is hardly better than that
AS_GOOD = 0.03  # of the chance, for which no more hits are proposed
NEAREST_MM = 1500.0  # practice: no polar instrument stands nearer to a part
HELD_TRIED = 2  # features by which the part might be held too, those that lie the farthest from what holds it

Spots = Callable[[int], Array | None]  # where in the world (n, 3) a row's surface may be touched


def settling(at: Standing, row: int, spots: Spots, work: Work) -> Settling | None:
    """What would settle the first characteristic of a row that is open; None where none is.

    Parameters
    ----------
    spots : None of a row that is best touched beside the hits that it has
    """
    found = open_characteristics(at.results[row])
    if not found:
        return None
    outlook = Outlook(judged := found[0])
    touchable = _touchable(at, judged, spots)
    shares = {source: share for source, share in judged.uncertainty.budget() if share**2 > WORTH * judged.uncertainty.u() ** 2}
    shared = [source for source in shares if source.what != "hits"]
    ways: list[Way] = list(_more_hits(at, row, outlook, touchable, work))
    ways += [_known_better(outlook, source, work) for source in shared]
    ways += _also_held(at, row, outlook, shares, work)
    if (nearer := _from_nearer(at, outlook, touchable, work)) is not None:
        ways.append(nearer)
    ways.sort(key=_order)
    if ways and isinstance(ways[0], MoreHits):
        ways[0] = replace(ways[0], others=_settled_besides(at, row, ways[0]))
    own_form = next(iter(shares), None) == Source("hits", row) and at.takes_more(row) and row not in touchable
    return Settling(outlook, tuple(ways), _hit_wanted(outlook, touchable), own_form)


def _order(way: Way) -> tuple:
    return (False, way.work_s, -way.chance) if way.enough else (True, -round(way.chance, 2), way.work_s)


def _touchable(at: Standing, judged: Characteristic, spots: Spots) -> dict[int, MayBeTouched]:
    """By row, where more hits would tell of what is judged; largest share first."""
    found = {}
    whole = judged.uncertainty.u() ** 2
    for source, share in judged.uncertainty.budget():
        row = source.whose
        if source.what != "hits" or not isinstance(row, int) or share**2 < WORTH * whole or not at.takes_more(row):
            continue
        feature = at.results[row].feature
        may = None if feature is None else may_be_touched(row, feature, spots(row))
        if may is not None and may.tells.shape[1] == judged.uncertainty.by_source[source].shape[1]:
            found[row] = may
    return found


# ---- more hits --------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class _Chosen:
    """Places of some rows, by how many of each."""

    turns: tuple[InTurn, ...]
    counts: tuple[int, ...]
    chance: float
    work_s: float

    @property
    def named(self) -> frozenset[tuple[int, int]]:
        """What is chosen, whichever rows were there to choose from."""
        return frozenset((turn.of.row, count) for turn, count in zip(self.turns, self.counts, strict=True) if count)

    def order(self) -> tuple:
        return (False, self.work_s, -self.chance) if self.chance >= SURE else (True, -self.chance, self.work_s)


def _more_hits(
    at: Standing, row: int, outlook: Outlook, touchable: Mapping[int, MayBeTouched], work: Work
) -> Iterable[MoreHits]:
    terms = outlook.judged.uncertainty.by_source
    turns = [in_turn(may, terms[Source("hits", i)][0], MOST_HITS) for i, may in list(touchable.items())[:AT_ONCE]]
    sets = [some for size in range(1, len(turns) + 1) for some in combinations(turns, size)]
    each_set = {each.named: each for each in (_fewest(outlook, some, work) for some in sets)}
    chosen = sorted(each_set.values(), key=_Chosen.order)
    for each in chosen[:LOOKED_AT]:
        if (way := _worked_out(at, row, outlook, each, work)) is not None:
            yield way


def _fewest(outlook: Outlook, turns: tuple[InTurn, ...], work: Work) -> _Chosen:
    """As few hits on these rows as are enough, each where it gains the most; all that may be where they are not."""
    counts, gained, tried = [0] * len(turns), 0.0, list[tuple[float, tuple[int, ...]]]()
    for _ in range(MOST_HITS):
        best = max(range(len(turns)), key=lambda i: turns[i].gains[counts[i]])
        gained += turns[best].gains[counts[best]]
        counts[best] += 1
        u_then = np.sqrt(max(outlook.u**2 - gained, 0.0))
        after = {
            Source("hits", turn.of.row): (turn.variances[n - 1, 0], n)
            for turn, n in zip(turns, counts, strict=True) if n
        }  # fmt: skip
        tried.append((float(outlook.joined(u_then, outlook.k_then(u_then, after) * u_then)), tuple(counts)))
        if tried[-1][0] >= SURE:
            break
    likeliest = max(chance for chance, _ in tried)
    chance, chosen = next(each for each in tried if each[0] >= min(SURE, likeliest - AS_GOOD))
    touched = sum(count > 0 for count in chosen)
    return _Chosen(turns, chosen, chance, work.row_s * touched + work.hit_s * sum(chosen))


def _worked_out(at: Standing, row: int, outlook: Outlook, chosen: _Chosen, work: Work) -> MoreHits | None:
    """As it would be if these hits were there; with more of them where that is not enough though it seemed to be."""
    counts = np.array(chosen.counts)
    meant = chosen.chance >= SURE
    found = None
    while counts.sum() <= MOST_HITS:
        places = {turn.of.row: turn.first(int(count)) for turn, count in zip(chosen.turns, counts, strict=True) if count}
        then = at.with_more([row], places)[row]
        told, chance = outlook.again_in(then), outlook.chance_in(then)
        if told is None:
            return None
        work_s = work.row_s * len(places) + work.hit_s * int(counts.sum())
        aims = {turn.of.row: turn.aims(int(count)) for turn, count in zip(chosen.turns, counts, strict=True) if count}
        found = MoreHits(told.U or 0.0, chance, work_s, places, aims, _gone(chosen.turns, counts))
        if found.enough or not meant or counts.sum() == MOST_HITS:
            break
        more = np.maximum(np.ceil(MORE * counts), counts).astype(int)
        counts = more if more.sum() <= MOST_HITS else np.floor(counts * MOST_HITS / counts.sum()).astype(int)
        meant = counts.sum() < MOST_HITS - 1
    return found


def _gone(turns: tuple[InTurn, ...], counts: Indices) -> dict[Source, Array]:
    return {
        Source("hits", turn.of.row): np.eye(turn.of.tells.shape[1]) - turn.of.left_after(turn.order[: int(count)])
        for turn, count in zip(turns, counts, strict=True) if count
    }  # fmt: skip


def _settled_besides(at: Standing, row: int, way: MoreHits) -> tuple[int, ...]:
    """Other rows that are not proven and that more hits likely settle too, by their Jacobians."""
    return tuple(
        other for other, found in at.results.items()
        if other != row and (open_ := open_characteristics(found)) and all(_chance_gained(c, way) >= LIKELY for c in open_)
    )  # fmt: skip


def _chance_gained(judged: Characteristic, way: MoreHits) -> float:
    """How likely it is proven once so much is gone of what the hits of some rows leave open."""
    terms = judged.uncertainty.by_source
    gained = {
        source: float(terms[source][0] @ by @ terms[source][0])
        for source, by in way.gone.items() if source in terms and terms[source].shape[1] == len(by)
    }  # fmt: skip
    whole = sum(gained.values())
    if whole <= 0 or whole < HOPELESS * judged.uncertainty.u() ** 2:
        return 0.0
    outlook = Outlook(judged)
    u_then = np.sqrt(max(outlook.u**2 - whole, 0.0))
    after = {
        source: (max(float(terms[source][0] @ terms[source][0]) - less, 0.0), len(way.places[source.whose]))
        for source, less in gained.items() if isinstance(source.whose, int)
    }  # fmt: skip
    return float(outlook.joined(u_then, outlook.k_then(u_then, after) * u_then))


# ---- what is known better ------------------------------------------------------------------------


def _known_better(outlook: Outlook, source: Source, work: Work) -> KnownBetter:
    share = outlook.judged.uncertainty.share(source)
    factor, U, chance = _anew(outlook, share**2, BETTER)
    return KnownBetter(U, chance, work.of_source(source), source, outlook.k * share, outlook.k * share * factor)


def _anew(outlook: Outlook, gone: float, factors: Iterable[float]) -> tuple[float, float, float]:
    """The first of some factors by which what makes ``gone`` of u² is enough, known anew, else the last; U and the chance with
    it."""
    found = 1.0, outlook.judged.U or 0.0, 0.0
    for factor in factors:
        U = outlook.k * np.sqrt(max(outlook.u**2 - gone * (1 - factor**2), 0.0))
        found = factor, float(U), float(outlook.anew(gone, factor, U))
        if found[2] >= SURE:
            break
    return found


def _of_hits(outlook: Outlook, rows: Iterable[int]) -> float:
    """What hits of some rows make of u²."""
    return sum(outlook.judged.uncertainty.share(Source("hits", row)) ** 2 for row in rows)


def _hit_wanted(outlook: Outlook, touchable: Mapping[int, MayBeTouched]) -> float | None:
    if not touchable:
        return None
    factor, _, chance = _anew(outlook, _of_hits(outlook, touchable), BETTER)
    return factor * max(may.sigma for may in touchable.values()) if chance >= SURE else None


def _from_nearer(at: Standing, outlook: Outlook, touchable: Mapping[int, MayBeTouched], work: Work) -> FromNearer | None:
    """From as near as is needed, of what a polar instrument has read."""
    polar = {row: seen for row in touchable if (seen := _seen_from(at.readings[row])) is not None}
    if not polar:
        return None
    far = max(far for far, _ in polar.values())
    stated = next(kind for its_far, kind in polar.values() if its_far == far)
    nears = [near for near in np.geomspace(0.8 * far, NEAREST_MM, 6) if near < far]
    if not nears:
        return None
    at_far = _u_at(stated, far)
    factor, U, chance = _anew(outlook, _of_hits(outlook, polar), [_u_at(stated, near) / at_far for near in nears])
    near = next(near for near in nears if _u_at(stated, near) / at_far <= factor)
    hits = sum(len(at.readings[row]) for row in polar)
    return FromNearer(U, chance, work.station_s + work.row_s * len(polar) + work.hit_s * hits, tuple(polar), far, float(near))


def _seen_from(reading: HitSet) -> tuple[float, InstrumentClass] | None:
    """How far off a polar instrument saw a row's hits, mm, and what its maker states; None of another instrument."""
    stated = [kind for station, kind in reading.stated.items() if station in reading.stations]
    if not stated:
        return None
    return float(np.linalg.norm(reading.poses[:, :3], axis=1).mean()), stated[0]


def _u_at(stated: InstrumentClass, far_mm: float) -> float:
    return stated.u_at(np.array([[far_mm, 0.0, 0.0]]))


# ---- a spare hold of the alignment ------------------------------------------------------------------


def _also_held(at: Standing, row: int, outlook: Outlook, shares: Iterable[Source], work: Work) -> Iterable[AlsoHeld]:
    """By each of some features that are measured, where what holds the part leaves much open; the best of each alignment."""
    own = rests_on(at.sheet, [row])
    for system in at.judged_by([row]):
        recipe = at.sheet.rows[at.sheet.index[system]].recipe
        holds = rests_on(at.sheet, [system])
        if recipe.role == "system" and any(source.whose in holds for source in shares if source.what == "hits"):
            tried = (
                _held_too(at, row, outlook, system, recipe, feature, work) for feature in _may_hold(at, system, holds | own)
            )
            found = [way for way in tried if way is not None]
            yield from sorted(found, key=_order)[:1]


def _may_hold(at: Standing, system: int, already: set[int]) -> list[int]:
    """Measured features with a nominal that may hold the part besides: the farthest from what holds it first.

    None that is judged itself: what holds the part is no longer.
    """
    held = [spot for i in already if (spot := _spot(at.results[i])) is not None]
    may = (i for i in at.readings if i not in already and i in at.results and at.results[i].verdict is None)
    free = {i: spot for i in may if (spot := _spot(at.results[i])) is not None}
    if not held or not free:
        return []
    away = np.linalg.norm(np.array(list(free.values()))[:, None] - np.array(held)[None], axis=2).min(axis=1)
    return [list(free)[k] for k in np.argsort(-away)[:HELD_TRIED]]


def _spot(found: RowResult) -> Array | None:
    """(3,) where a feature with a nominal was touched first, in the world."""
    feature = found.feature
    if feature is None or feature.state != "done" or feature.centers is None or not len(feature.centers):
        return None
    return np.asarray(feature.centers[0]) if may_hold(feature.nominal) else None


def _held_too(
    at: Standing, row: int, outlook: Outlook, system: int, recipe: RowRecipe, feature: int, work: Work
) -> AlsoHeld | None:
    found = at.results[feature].feature
    assert found is not None
    grown = recipe.also_held(feature, ActualFeature.of(found).own_directions)
    told = None if grown is None else outlook.again_in(then := at.with_recipe(row, system, grown))
    if told is None or told.U is None or (outlook.judged.U or 0.0) <= told.U:
        return None
    return AlsoHeld(told.U, outlook.chance_in(then), work.press_s, feature, system, grown)
