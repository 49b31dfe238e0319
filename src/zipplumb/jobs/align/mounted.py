"""An alignment as the part is mounted: which features hold it in which directions, tried before it is kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...core.alignment import Alignment
from ...core.alignment.hold import AXES, Letter, may_hold, place_of, ways_of
from ...core.errors import InputError, PlumbError
from ...core.sheet import SheetRow, recipe_from_dict
from ...core.sheet.bases.systems import ActualFeature, Held, SystemInputs
from ...core.units import Units, length_from_text, length_text
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..plan.adding import add_rows, check_references, named
from ..plan.sheet import as_seen
from ..state.recipes import rewrite
from ..state.results import JobResults, load
from .alignment_text import FreedomText, freedom_texts, worth_of

COLUMNS: tuple[Letter, ...] = (*AXES, "own")
KIND = "holds"
GREW_MM = 0.002  # by so much more left than before is told


@dataclass(frozen=True)
class MayHold:
    """A feature that can hold, ``at`` a place of the part. ``may``: in which directions, and their ``ways``; ``ticked``: of
    these, as the recipe has them."""

    row: int
    name: str
    at: tuple[float, ...]
    may: tuple[str, ...]
    ways: tuple[tuple[float, ...], ...]
    ticked: tuple[str, ...] = ()
    level: int = 1
    weight: str = ""


@dataclass(frozen=True)
class Offset:
    """How far a feature lies off its nominal along X, Y and Z, before and after; ``grew``: which of these are larger now."""

    row: int
    before: tuple[str, ...]
    after: tuple[str, ...]
    grew: tuple[bool, ...]


@dataclass(frozen=True)
class TickAnswer:
    """The alignment from the ticks, for the page."""

    message: str = ""
    worth: str = ""
    verdict: str = ""
    proven: bool = False
    freedoms: tuple[FreedomText, ...] = ()
    offsets: tuple[Offset, ...] = ()


def candidates(state: JobResults, ticks: Sequence[Held]) -> list[MayHold]:
    """Measured features with a nominal; ``ticks``: of the alignment that is changed."""
    held = {h.feature: h for h in ticks}
    found = []
    for row, _ in _features(state):
        nominal = row.recipe.should_be
        ways = ways_of(nominal)
        base = MayHold(
            row.id, row.recipe.name, _three_of(place_of(nominal)), tuple(ways), tuple(_three_of(way) for way in ways.values())
        )
        mine = held.get(row.id)
        if mine is not None:
            weight = "" if mine.u_mm is None else length_text(mine.u_mm, state.job.units)
            base = replace(base, ticked=mine.directions, level=mine.level, weight=weight)
        found.append(base)
    return found


def _three_of(vector: np.ndarray) -> tuple[float, ...]:
    return tuple(round(float(v), 4) for v in vector)


def _features(state: JobResults) -> list[tuple[SheetRow, ActualFeature]]:
    there = []
    for row in state.rows:
        found = state.results[row.id].feature
        if found is None or found.feature is None or found.state != "done" or found.nominal is None:
            continue
        if may_hold(found.nominal):
            there.append((row, ActualFeature.of(found)))
    return there


def raw_of_ticks(texts: Mapping[str, str], rows: Sequence[int], units: Units) -> dict[str, Any]:
    """The recipe's data, without a name. ``texts``: "12.X" for a tick, "12.level", "12.weight". Raises InputError."""
    holds = []
    for row in rows:
        directions = [c for c in COLUMNS if texts.get(f"{row}.{c}")]
        if not directions:
            continue
        hold: dict[str, Any] = {"feature": row, "directions": directions, "level": _level(texts.get(f"{row}.level", "1"))}
        if text := texts.get(f"{row}.weight", "").strip():
            hold["u_mm"] = length_from_text(text, units, "the weight")
        holds.append(hold)
    if not holds:
        raise InputError("Nothing holds the part yet.", "Nothing was planned.", "Tick in which directions features hold it.")
    return {"kind": KIND, "holds": holds}


def _level(text: str) -> int:
    if text not in ("1", "2", "3"):
        raise InputError("A level is 1, 2 or 3.", "Nothing was planned.", "Choose one of the three.")
    return int(text)


def answer(state: JobResults, texts: Mapping[str, str], before: Alignment | None) -> TickAnswer:
    """The alignment from the ticks, and the residual of every feature in it; nothing is stored. ``before``: to compare with."""
    features = _features(state)
    try:
        raw = raw_of_ticks(texts, [row.id for row, _ in features], state.job.units)
        recipe = recipe_from_dict({**raw, "name": "?"})
        given = SystemInputs({row.id: actual for row, actual in features})
        found: Alignment = recipe.solve(given)  # type: ignore[attr-defined]
    except PlumbError as error:
        return TickAnswer(message=str(error))
    ledger, units = found.ledger, state.job.units
    told = worth_of(found, None, units)
    offsets = tuple(_offset(row.id, actual, before, found, units) for row, actual in features)
    proven = not found.doubt and ledger.spare > 0 and not ledger.loose
    return TickAnswer("", told, ledger.verdict, proven, freedom_texts(found.ledger, units), offsets)


def _offset(row: int, actual: ActualFeature, before: Alignment | None, after: Alignment, units: Units) -> Offset:
    now = actual.offset_in(after)
    was = None if before is None else actual.offset_in(before)
    grew = (np.zeros(3, bool) if was is None else np.abs(now) > np.abs(was) + GREW_MM).tolist()
    return Offset(row, () if was is None else _three(was, units), _three(now, units), tuple(grew))


def _three(values: np.ndarray, units: Units) -> tuple[str, ...]:
    return tuple(length_text(float(v), units, sign=True) for v in values)


def keep(actor: Actor, job_id: int, texts: Mapping[str, str], row_id: int | None, seen: str | None = None) -> int:
    """Plan the alignment that the ticks make, or change one. Returns its row."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        raw = raw_of_ticks(texts, [row.id for row, _ in _features(state)], job.units)
        if row_id is None:
            return add_rows(session, actor, job_id, named(session, job_id, [raw], "Mounted"))[0]
        ticks_of(state, row_id)
        row = stored(session, Row, row_id)
        as_seen(row, seen)
        edited = recipe_from_dict({**row.recipe, **raw, "settled_turn": None})
        check_references(session, job_id, edited)
        before = rewrite(row, edited)
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)
        return row_id


def ticks_of(state: JobResults, row_id: int) -> tuple[Held, ...]:
    """The holds of an alignment. Raises InputError where the row has no ticks."""
    ticks = state.row(row_id).recipe.ticks
    if ticks is None:
        raise InputError("That row is held by no ticks.", "Nothing was changed.", "Open its own form.")
    return ticks
