"""The ways that would settle a row, in sentences."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import singledispatch

from sqlalchemy.orm import Session

from ...core.frames import Array
from ...core.sheet.proving.causes import Cause
from ...core.sheet.proving.chance import open_characteristics
from ...core.sheet.proving.way import AlsoHeld, FromNearer, KnownBetter, MoreHits, Settling, Way
from ...core.units import Units, coarse_text, length_text, quantity_text
from ..state.results import JobResults
from ..words import words_for
from ..words._sources import anew_words, source_words
from .foretold import foretold
from .work import work_of

MOST, OF_A_SORT = 4, 2  # ways that are told; where none is likely, the best
LIKELY = 0.5
ON_IT = 0.05  # of U
LITTLE = 0.9  # of U, over which a way that is not likely enough is not worth a line
COUNTS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine")


@dataclass(frozen=True)
class WayTold:
    """A way, in words. ``key``: what names it, "" where nothing of it can be planned here; ``marks``: where, in what is drawn.

    ``gives``: U now and then; ``sure``: how surely it is enough; ``takes``: how long; ``press``: what a press does.
    """

    key: str
    words: str
    gives: str
    sure: str
    enough: bool
    takes: str
    marks: tuple[tuple[float, ...], ...] = ()
    press: str = ""


@dataclass(frozen=True)
class SettlingTold:
    """``lead``: what is open; ``ways``: the best first; ``note``: what is to be known besides."""

    lead: str
    ways: tuple[WayTold, ...]
    note: str


def told(state: JobResults, row_id: int, found: Settling) -> SettlingTold:
    """In the units of the job."""
    recipe, units, judged = state.row(row_id).recipe, state.job.units, found.outlook.judged
    label = words_for(recipe).label(recipe, judged.key)
    factor = recipe.share_of(judged.key)

    def shown(value: float) -> str:
        return quantity_text(factor * value, judged.unit, units)

    side, off = ("inside" if found.outlook.inside else "beyond"), shown(found.outlook.margin)
    where = f"{off} {side} its limit" if found.outlook.margin > ON_IT * (judged.U or 0.0) else "on its limit"
    lead = f"The {label} lies {where}, and is known to {shown(judged.U or 0.0)}."
    names = {row.id: row.recipe.name for row in state.rows}
    ways = tuple(
        WayTold(
            way.key, f"{words_of(way, names, units)}.", f"U {shown(judged.U or 0.0)} → {shown(way.U)}", _sure(way),
            way.enough, minutes_text(way.work_s), _marks(state, way), press_words(way),
        )
        for way in _worth_telling(found)
    )  # fmt: skip
    return SettlingTold(lead, ways, _note(state, found, names))


def _worth_telling(found: Settling) -> Sequence[Way]:
    """Those that are likely enough, not all of one sort; else the best, where it gives anything."""
    sorts = Counter[type[Way]]()
    likely = []
    for way in found.ways:
        sorts[type(way)] += 1
        if way.chance >= LIKELY and sorts[type(way)] <= OF_A_SORT:
            likely.append(way)
    return likely[:MOST] or [way for way in found.ways[:1] if (found.outlook.judged.U or 0.0) * LITTLE > way.U]


@singledispatch
def press_words(way: Way) -> str:
    """What a press does; "" where it cannot be planned by itself."""
    return ""


@press_words.register
def _(way: MoreHits) -> str:
    return "Plan it"


@press_words.register
def _(way: AlsoHeld) -> str:
    return "Hold it so"


@singledispatch
def words_of(way: Way, names: Mapping[int, str], units: Units) -> str:
    raise NotImplementedError(type(way))


@words_of.register
def _(way: MoreHits, names: Mapping[int, str], units: Units) -> str:
    (first, at), *more = way.places.items()
    said = ", ".join(
        [f"{counted(len(at), 'more hit')} on {names[first]}", *(f"{count_words(len(a))} on {names[r]}" for r, a in more)]
    )
    besides = f"; that likely settles {listed([names[row] for row in way.others], 2)} too" if way.others else ""
    return f"{said[0].upper()}{said[1:]}, where the stage shows{besides}"


@words_of.register
def _(way: KnownBetter, names: Mapping[int, str], units: Units) -> str:
    times = f"{way.share / way.share_then:.1f}".removesuffix(".0") if way.share_then else "much"
    return f"{anew_words(way.source, names)}, {times} times as sure"


@words_of.register
def _(way: FromNearer, names: Mapping[int, str], units: Units) -> str:
    which = " and ".join(names[row] for row in way.rows)
    far, near = (f"{coarse_text(mm, units)} {units}" for mm in (way.far_mm, way.near_mm))
    return f"{which} measured anew from {near} instead of {far}"


@words_of.register
def _(way: AlsoHeld, names: Mapping[int, str], units: Units) -> str:
    return f"{names[way.feature]}, measured already, holds the part too, in {names[way.system]}; all is judged anew"


@dataclass(frozen=True)
class CauseTold:
    """More hits on ``row`` that settle others, in words; ``which``: what they are; ``marks``: where, in what is drawn."""

    row: int
    words: str
    which: str
    takes: str
    marks: tuple[tuple[float, ...], ...]


def causes_told(state: JobResults, found: Sequence[Cause]) -> list[CauseTold]:
    """The best first."""
    names = {row.id: row.recipe.name for row in state.rows}
    return [
        CauseTold(
            each.row, f"{hits_words(len(each.aims), names[each.row])}.",
            _settles(each, [names[row] for row in each.rows]),
            minutes_text(each.work_s), tuple(tuple(at.round(3).tolist()) for at in in_drawing(state, each.aims)),
        )
        for each in found[:MOST]
    ]  # fmt: skip


def _settles(cause: Cause, names: Sequence[str]) -> str:
    if len(names) == 1:
        return f"It likely settles {names[0]}."
    return f"It likely settles {round(cause.settled)} of the {len(names)} not proven that rest on it: {listed(names)}."


@dataclass(frozen=True)
class LeftToProve:
    """``open``: rows that are not proven; ``words``: of all that is left, with the work."""

    open: int
    words: str


def left_to_prove(state: JobResults, found: Sequence[Cause]) -> LeftToProve:
    """What is to be measured still, and what is not proven, with how long it takes as this job has shown."""
    work = work_of(state)
    to_do = [row for row in state.measured if not row.finished]
    open_ = [row for row in state.rows if open_characteristics(state.results[row.id])]
    hits = sum(max(0, row.recipe.wanted_hits - state.results[row.id].hits) for row in to_do)
    mending_s, settled = _mended(found)
    work_s = len(to_do) * work.row_s + hits * work.hit_s + mending_s
    if not to_do and not open_:
        return LeftToProve(0, "Nothing is left: all that is judged is proven, in or out.")
    parts = [f"{counted(len(to_do), 'row')} to be measured"] if to_do else []
    parts += [f"{counted(len(open_), 'row')} not proven"] if open_ else []
    likely = f", by which {count_words(settled)} of these are likely settled" if len(open_) > settled else ""
    words = f"{' and '.join(parts)}: about {minutes_text(work_s)} of work{likely}." if work_s else f"{' and '.join(parts)}."
    return LeftToProve(len(open_), words.capitalize())


def _mended(found: Sequence[Cause]) -> tuple[float, int]:
    """What those causes take, in s, that likely settle what those before them do not; and how many rows all settle."""
    best, work_s = dict[int, float](), 0.0
    for each in found:
        more = {row: chance for row, chance in each.chances.items() if chance > best.get(row, 0.0)}
        if sum(chance - best.get(row, 0.0) for row, chance in more.items()) >= LIKELY:
            best |= more
            work_s += each.work_s
    return work_s, round(sum(best.values()))


def counted(count: int, noun: str) -> str:
    return f"{count_words(count)} {noun}{'' if count == 1 else 's'}"


def listed(names: Sequence[str], most: int = 6) -> str:
    """Names, and how many more."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return f"{', '.join(names[:most])}{more}"


def hits_words(count: int, name: str) -> str:
    said = counted(count, "more hit")
    return f"{said[0].upper()}{said[1:]} on {name}, where the stage shows"


def count_words(count: int) -> str:
    return COUNTS[count] if count < len(COUNTS) else str(count)


def _sure(way: Way) -> str:
    if way.enough:
        return "enough"
    return f"enough in {10 * way.chance:.0f} of 10 such cases" if way.chance >= LIKELY else "likely not enough"


def minutes_text(work_s: float) -> str:
    """How long, as a person says it."""
    return f"{max(5, 5 * round(work_s / 5))} s" if work_s < 90 else f"{work_s / 60:.0f} min"


def _marks(state: JobResults, way: Way) -> tuple[tuple[float, ...], ...]:
    places = way.aims if isinstance(way, MoreHits) else {}
    return tuple(tuple(at.round(3).tolist()) for each in places.values() for at in in_drawing(state, each))


def in_drawing(state: JobResults, places: Array) -> Array:
    return state.drawn_from_world.points(places)


def _note(state: JobResults, found: Settling, names: Mapping[int, str]) -> str:
    if found.own_form and not found.enough:
        return "Its own form leaves open what its limit asks. More hits show more of the form, not less."
    if found.enough:
        return ""
    if found.hit_mm is not None:
        u = f"{length_text(found.hit_mm, state.job.units, extra=1)} {state.job.units}"
        return f"Nothing here is surely enough. With an instrument whose hits are sure to {u} (standard), as many would be."
    shared = [source for source, _ in found.outlook.judged.uncertainty.budget() if source.what != "hits"]
    rest = f" The most that more hits leave open comes from {source_words(shared[0], names)}." if shared else ""
    return f"Nothing here is surely enough: it lies too near its limit.{rest}"


def foretold_words(session: Session, state: JobResults, row_id: int) -> str:
    """What was foretold of a row when more hits were planned for it, beside what came out; "" where nothing was."""
    was = foretold(session, state, row_id)
    if was is None:
        return ""
    recipe = state.row(row_id).recipe
    now = next((c for c in state.results[row_id].characteristics if (c.key, c.of) == (was.key, was.of)), None)

    def shown(value: float | None) -> str:
        return (
            "–" if now is None or value is None else quantity_text(recipe.share_of(was.key) * value, now.unit, state.job.units)
        )

    label = words_for(recipe).label(recipe, was.key)
    said = f"U of the {label} was {shown(was.U_before)}, and {shown(was.U)} was foretold"
    if was.to_come:
        return f"{said}; {counted(was.to_come, 'hit')} to come."
    word = f", {now.verdict.word}" if now is not None and now.verdict is not None else ""
    return f"{said}; it is {shown(None if now is None else now.U)}{word}."
