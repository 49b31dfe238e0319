"""Details that are moved until they sit: their targets, their adjusters, and which of these to turn, round after round."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Annotated, Any

import numpy as np
from pydantic import Field, ValidationError, model_validator
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.features import center_point
from ..core.frames import Array, unit
from ..core.placing import Adjuster, Effect, Lies, Plan, learned, lies, plan_turns
from ..core.sheet.base import Direction, Id, Length, Model, Vector
from ..core.units import Units, length_from_text
from ..store.database import stored, tell, transaction
from ..store.models import Detail, Job
from .actor import Actor, record
from .guided import open_anew
from .place import AXES, Placing, aims_of
from .results import JobResults, load

LEAST_U_MM = 0.002
COLUMNS = "name; X; Y; Z; direction; length a turn; turns left down; turns left up; smallest part"
Turns = Annotated[float, Field(ge=0, le=1e4)]


class AdjusterRecipe(Model):
    """``place`` in the part, ``direction`` in which the detail goes when it is turned up; ``down``, ``up``: turns left."""

    name: Annotated[str, Field(min_length=1, max_length=40)]
    place: Vector
    direction: Direction
    mm_per_turn: Length
    down: Turns | None = None
    up: Turns | None = None
    step: Annotated[float, Field(ge=0, le=100)] = 0.0

    @property
    def adjuster(self) -> Adjuster:
        least = -np.inf if self.down is None else -self.down
        most = np.inf if self.up is None else self.up
        return Adjuster(self.name, np.array(self.place), unit(self.direction), self.mm_per_turn, least, most, self.step)


class DetailRecipe(Model):
    """``targets``: rows of points on it, with nominals."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    targets: Annotated[tuple[Id, ...], Field(min_length=1, max_length=50)]
    adjusters: Annotated[tuple[AdjusterRecipe, ...], Field(max_length=24)] = ()

    @model_validator(mode="after")
    def _told_apart(self):
        if len({a.name for a in self.adjusters}) < len(self.adjusters):
            raise ValueError("two adjusters have the same name")
        return self


@dataclass(frozen=True, eq=False)
class Placed:
    """A detail as it lies now.

    ``seen``: rows of targets that are measured, with their places in the part; ``to_see``: names of those that are not.
    ``found``, ``plan``: None while nothing of it is seen, or it has no adjusters. ``refused``: why nothing is told.
    """

    id: int
    recipe: DetailRecipe
    rounds: int
    seen: Mapping[int, Array]
    to_see: tuple[str, ...]
    found: Lies | None = None
    plan: Plan | None = None
    zones_mm: Array | None = None
    refused: str = ""


# ---- what there is -----------------------------------------------------------------------------


def details_of(session: Session, state: JobResults) -> list[Placed]:
    query = select(Detail).where(Detail.job_id == state.job.id, Detail.removed_at.is_(None)).order_by(Detail.id)
    return [placed(state, detail) for detail in session.scalars(query)]


def placed(state: JobResults, detail: Detail) -> Placed:
    """How a detail lies now, and what to turn, by all that was seen of it so far."""
    recipe, aims = DetailRecipe.model_validate(detail.recipe), aims_of(state)
    nominal = {row.id: place for row, place in zip(aims.rows, aims.places, strict=True)}
    zones = {row.id: float(zone) for row, zone in zip(aims.rows, aims.zones_mm, strict=True)}
    rows = [row for row in recipe.targets if row in nominal]
    seen = {row: place for row in rows if (place := _place_of(state, row)) is not None}
    to_see = tuple(state.row(row).recipe.name for row in rows if row not in seen)
    base = Placed(detail.id, recipe, len(detail.rounds), seen, to_see)
    if state.alignment is None:
        return replace(base, refused="No coordinate system is active: align first.")
    if held := [state.row(row).recipe.name for row in rows if state.results[row].held]:
        return replace(base, refused=f"The active system rests on {', '.join(held)}: what is moved cannot hold the system.")
    if not rows:
        return replace(base, refused="None of its targets has a nominal place any more.")
    if not seen:
        return base
    u_mm = {row: max(state.results[row].feature.u_hit_mm, LEAST_U_MM) for row in seen}  # type: ignore[union-attr]

    def lie(places: Mapping[int, Any], among: Sequence[int]) -> Lies:
        return lies(
            np.array([nominal[row] for row in among]), np.array([places[row] for row in among], float),
            np.array([u_mm.get(row, LEAST_U_MM) for row in among]),
        )  # fmt: skip

    found = lie(seen, list(seen))
    zones_mm = np.array([zones[row] for row in seen])
    plan = None
    if recipe.adjusters:
        adjusters = [a.adjuster for a in recipe.adjusters]
        effects = _effects(adjusters, detail.rounds, seen, nominal, lie)
        plan = plan_turns(found, np.array([nominal[row] for row in seen]), zones_mm, _left(adjusters, detail.rounds), effects)
    return replace(base, found=found, plan=plan, zones_mm=zones_mm)


def _place_of(state: JobResults, row: int) -> Array | None:
    """Where a target is, in the part, once it is measured."""
    found = state.results[row]
    if found.state != "done" or found.feature_part is None:
        return None
    return np.asarray(center_point(found.feature_part.shape))


def _effects(adjusters: list[Adjuster], rounds: list[Any], seen: Mapping[int, Array], nominal: Mapping[int, Array], lie):
    """What each adjuster does, by all rounds of turns with what was seen before and after each."""
    effects: Sequence[Effect] = [Effect.stated(a) for a in adjusters]
    looks = [{int(row): place for row, place in r["seen"].items()} for r in rounds] + [dict(seen)]
    for one, before, after in zip(rounds, looks, looks[1:], strict=False):
        both = [row for row in before if row in after and row in nominal]
        if both and len(one["turns"]) == len(adjusters):
            effects = learned(effects, adjusters, np.array(one["turns"]), lie(before, both), lie(after, both))
    return effects


def _left(adjusters: list[Adjuster], rounds: list[Any]) -> list[Adjuster]:
    """With the turns that are left of each range."""
    used = np.sum([r["turns"] for r in rounds if len(r["turns"]) == len(adjusters)], axis=0) if rounds else 0.0
    used = np.broadcast_to(used, len(adjusters)).tolist()
    return [replace(a, least=min(a.least - u, 0.0), most=max(a.most - u, 0.0)) for a, u in zip(adjusters, used, strict=True)]


# ---- acts --------------------------------------------------------------------------------------


def add(actor: Actor, job_id: int, name: str, targets: Sequence[int], adjusters: str) -> int:
    """A detail: its name, the rows of its targets, and its adjusters, a line each. Returns its id."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        may = {row.id for row in aims_of(state).rows}
        if wrong := [row for row in targets if row not in may]:
            raise InputError(
                f"Row {wrong[0]} is no place with a nominal of this job.", "Nothing was kept.", "Choose targets of the list."
            )
        raw = {"name": name.strip(), "targets": tuple(dict.fromkeys(targets)), "adjusters": _adjusters(adjusters, job)}
        try:
            recipe = DetailRecipe.model_validate(raw)
        except ValidationError as error:
            what = error.errors()[0]
            place = str(what["loc"][0]) if what["loc"] else ""
            field = {"name": "The name", "targets": "The targets"}.get(place, "The list of adjusters")
            reason = what["msg"].removeprefix("Value error, ")
            reason = reason[0].lower() + reason[1:]
            raise InputError(f"{field} is refused: {reason}.", "Nothing was kept.", "Correct it.") from None
        detail = Detail(job_id=job_id, recipe=recipe.model_dump(mode="json"))
        session.add(detail)
        session.flush()
        record(session, actor, job_id, "add a detail", detail=detail.id, recipe=detail.recipe)
        tell(session, job_id, "sheet")
        return detail.id


def _adjusters(text: str, job: Job) -> list[dict[str, Any]]:
    """Adjusters from lines of text. Raises InputError naming the line."""
    words = {w.lower().replace("−", "-"): a for a, w in Placing.of_job(job).words.items()} | {a.lower(): a for a in AXES}
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        cells = [cell.strip() for cell in line.split(";")]
        try:
            found.append(_adjuster(cells, words, job.units))
        except InputError as error:
            raise InputError(f"Line {number}: {error.happened}", "Nothing was kept.", f"Write {COLUMNS}.") from None
    return found


def _adjuster(cells: list[str], words: Mapping[str, str], units: Units) -> dict[str, Any]:
    if not 6 <= len(cells) <= 9:
        raise InputError(f"It has {len(cells)} entries, not 6 to 9.")
    axis = words.get(cells[4].lower().replace("−", "-"))
    if axis is None:
        raise InputError(f"“{cells[4][:24]}” is no direction.")
    direction = [0.0, 0.0, 0.0]
    direction["XYZ".index(axis[1])] = 1.0 if axis[0] == "+" else -1.0
    x, y, z, a_turn = (length_from_text(c, units, "a number") for c in (*cells[1:4], cells[5]))
    raw: dict[str, Any] = {"name": cells[0], "place": (x, y, z), "direction": tuple(direction), "mm_per_turn": a_turn}
    for field, cell in zip(("down", "up", "step"), cells[6:], strict=False):
        if cell:
            raw[field] = abs(length_from_text(cell, "mm", "the number of turns"))
    try:
        return AdjusterRecipe.model_validate(raw).model_dump(mode="json")
    except ValidationError as error:
        what = error.errors()[0]
        raise InputError(f"{str(what['loc'][0]).replace('_', ' ')}: {what['msg'][0].lower()}{what['msg'][1:]}.") from None


def remove(actor: Actor, job_id: int, detail_id: int) -> None:
    """Out of the page; what was measured of it stays."""
    actor.must_change()
    with transaction() as session:
        _of_job(session, job_id, detail_id).removed_at = datetime.now(UTC)
        record(session, actor, job_id, "remove a detail", detail=detail_id)
        tell(session, job_id, "sheet")


def turned(actor: Actor, job_id: int, detail_id: int, round_number: int) -> None:
    """It was turned as was proposed: its targets are looked at again, and what each adjuster did is learned from that.

    ``round_number``: of the proposal that the person saw.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        detail = _of_job(session, job_id, detail_id)
        now = placed(load(session, job_id), detail)
        if round_number != len(detail.rounds) or now.plan is None or not now.plan.turns:
            raise InputError(
                "That proposal is not the newest any more.", "Nothing was changed.", "Look at what is proposed now."
            )
        by_name = {turn.name: turn.turns for turn in now.plan.turns}
        turns = [by_name.get(a.name, 0.0) for a in now.recipe.adjusters]
        seen = {str(row): place.tolist() for row, place in now.seen.items()}
        detail.rounds = [*detail.rounds, {"turns": turns, "seen": seen}]
        _look(session, actor, job, now)
        record(session, actor, job_id, "turn adjusters", detail=detail_id, turns=by_name)
        tell(session, job_id, "sheet", tone="moved")


def look_again(actor: Actor, job_id: int, detail_id: int) -> None:
    """Its targets are measured anew; nothing was turned on purpose."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        _look(session, actor, job, placed(load(session, job_id), _of_job(session, job_id, detail_id)))
        record(session, actor, job_id, "look at a detail again", detail=detail_id)
        tell(session, job_id, "sheet", tone="moved")


def _look(session: Session, actor: Actor, job: Job, now: Placed) -> None:
    for row in now.seen:
        open_anew(session, actor, row)
    first = next(iter(now.seen), None)
    if first is not None:
        job.current_row_id, job.touching = first, ""


def _of_job(session: Session, job_id: int, detail_id: int) -> Detail:
    detail = stored(session, Detail, detail_id, lock=True)
    if detail.job_id != job_id or detail.removed_at is not None:
        raise InputError("That detail is not in this job any more.", "Nothing was changed.", "Choose another.")
    return detail
