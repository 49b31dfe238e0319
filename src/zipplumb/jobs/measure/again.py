"""Looking again at what was measured: as another kind, with the hits of another row, without touching it anew."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, cast

from sqlalchemy import and_, select, update
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import KINDS, MEASURED, MeasuredRecipe, RowResult, kind_of
from ...store.database import stored, tell, transaction
from ...store.models import Change, Job, Mark, Reading, Row, User
from ..actor import Actor, record
from ..plan.adding import ROW_GONE, check_references, rests_on
from ..plan.sheet import as_seen, seen_of
from ..state.recipes import changed, recipe_of, rewrite
from ..state.results import JobResults, load
from ..words import WORDS

NOTHING = "Nothing was changed."


def other_kinds(recipe: MeasuredRecipe) -> list[tuple[str, str]]:
    """Kinds that a row may become with the hits that it has, by their words."""
    others = [key for key in MEASURED if key != recipe.kind and not KINDS[key].proposes]
    there = [key for key in others if recipe.become({"kind": key}) is not None]
    return sorted(((key, WORDS[key].noun) for key in there), key=lambda pair: pair[1])


def become(actor: Actor, job_id: int, row_id: int, kind: str, seen: str | None = None) -> str:
    """Take a row for one of another kind; its hits stay, its nominal and limits go. Returns what was seen of it."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        row, recipe = _measured(session, job_id, row_id)
        as_seen(row, seen)
        if kind not in dict(other_kinds(recipe)):
            raise InputError("It cannot be taken for that with the hits that it has.", NOTHING, "Choose one of those offered.")
        found = load(session, job_id).results[row_id]
        new = recipe.become(on_side({"kind": kind}, found))
        assert new is not None
        needing = _resting(session, job_id, row_id)
        before = rewrite(row, new)
        session.flush()
        if needing and (now := load(session, job_id).results[row_id]).state == "failed":
            raise InputError(f"{now.message} {' and '.join(needing)} rests on it.", NOTHING, "Choose another kind.")
        record(session, actor, job_id, "take for another kind", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(new)


def on_side(raw: Mapping[str, Any], found: RowResult) -> dict[str, Any]:
    """A recipe's data with the side that was touched, where its kind has one."""
    told = "inside" in kind_of(raw).model_fields and found.side is not None and found.side.air != 0
    return {**raw, "inside": found.side.air < 0} if told and found.side else dict(raw)


def take_over(session: Session, target: Row, source: Row) -> None:
    """The hits of one row belong to another from now on, and the row goes off the sheet."""
    theirs = (*source.recipe.get("hits_of", ()), source.id)
    changed(target, hits_of=[*target.recipe.get("hits_of", ()), *theirs])
    source.removed_at = datetime.now(UTC)
    for row in session.scalars(select(Row).where(Row.id.in_(theirs))):
        row.taken_over_by = target.id


def join(actor: Actor, job_id: int, row_id: int, into: int | None) -> None:
    """Give a row's hits to another one. A row that was planned stays so; one that was only touched goes off the sheet, which is
    refused while others rest on it."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        source, recipe = _measured(session, job_id, row_id)
        target, _ = _measured(session, job_id, into or 0)
        if source is target:
            raise InputError("A row has its own hits already.", NOTHING, "Choose another row.")
        if rests_on(recipe_of(target), [source.id]):
            raise InputError(f"{target.recipe['name']} rests on this row.", NOTHING, "Choose another row.")
        if recipe.proposes and (needing := _resting(session, job_id, row_id)):
            raise InputError(f"{' and '.join(needing)} rests on this row.", NOTHING, "Remove that first.")
        give(session, actor, job, source, target)
        tell(session, job_id, "sheet")


def give(session: Session, actor: Actor, job: Job, source: Row, target: Row) -> None:
    """``join`` within a transaction, the job locked."""
    before, was_finished = target.recipe, source.finished_at
    target.finished_at = target.finished_at or was_finished
    if job.current_row_id == source.id:
        job.current_row_id = target.id
    readings: list[int] = []
    if recipe_of(source).proposes:
        take_over(session, target, source)
    else:
        readings = _hand_over(session, job, source, target)
    check_references(session, job.id, recipe_of(target))
    record(
        session, actor, job.id, "join hits", row=target.id, source=source.id, readings=readings,
        finished=was_finished is not None, before=before, after=target.recipe,
    )  # fmt: skip


def _hand_over(session: Session, job: Job, source: Row, target: Row, only: Sequence[int] | None = None) -> list[int]:
    """Readings go to another row, with their marks; that one is open again where none is left. ``only``: these, by id."""
    theirs = Reading.row_id == source.id if only is None else and_(Reading.row_id == source.id, Reading.id.in_(only))
    moved = list(session.scalars(update(Reading).where(theirs).values(row_id=target.id).returning(Reading.id)))
    session.execute(update(Mark).where(Mark.reading_id.in_(moved)).values(row_id=target.id))
    if only is None and (others := source.recipe.get("hits_of", ())):
        changed(source, hits_of=[])
        changed(target, hits_of=[*target.recipe.get("hits_of", ()), *others])
        session.execute(update(Row).where(Row.id.in_(others)).values(taken_over_by=target.id))
    if session.scalar(select(Reading.id).where(Reading.row_id == source.id).limit(1)) is None:
        changed(source, **kind_of(source.recipe).answered)
        source.finished_at = None
    job.handed_over += 1
    return moved


def given_last(session: Session, row_id: int) -> Change | None:
    """The change by which a row was given hits that it has still."""
    of_row = Change.detail["row"].as_integer() == row_id
    for given in session.scalars(select(Change).where(of_row, Change.act == "join hits").order_by(Change.id.desc())):
        readings = given.detail.get("readings") or ()
        if session.scalar(select(Reading.id).where(Reading.id.in_(readings), Reading.row_id == row_id).limit(1)) is not None:
            return given
    return None


def give_back(actor: Actor, job_id: int, row_id: int) -> int:
    """The row whose hits were joined last has them again. Returns its id."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        target, recipe = _measured(session, job_id, row_id)
        if (given := given_last(session, row_id)) is not None:
            source, before = stored(session, Row, given.detail["source"]), target.recipe
            source.removed_at = None
            _hand_over(session, job, target, source, given.detail["readings"])
            if given.detail["finished"]:
                source.finished_at = datetime.now(UTC)
        else:
            source, before = _stand_again(session, target, recipe)
        record(session, actor, job_id, "give hits back", row=row_id, source=source.id, before=before, after=target.recipe)
        tell(session, job_id, "sheet")
        return source.id


def _stand_again(session: Session, target: Row, recipe: MeasuredRecipe) -> tuple[Row, dict[str, Any]]:
    """The row that was taken over last stands on the sheet again. That, and the recipe of the other one before."""
    if not recipe.hits_of:
        raise InputError("It has no hits of another row.", NOTHING, "Open the row again.")
    *left, last = recipe.hits_of
    source = stored(session, Row, last)
    inner = set(source.recipe.get("hits_of", ()))
    before = changed(target, hits_of=[i for i in left if i not in inner])
    source.removed_at = source.taken_over_by = None
    for row in session.scalars(select(Row).where(Row.id.in_(inner))):
        row.taken_over_by = source.id
    return source, before


def may_join(state: JobResults, row_id: int) -> list[tuple[int, str]]:
    """Rows that could take a row's hits over, by their words."""
    if row_id not in state.readings:
        return []
    return [(row.id, f"{state.index_of(row.id) + 1} {row.recipe.name}") for row in state.measured if row.id != row_id]


def _measured(session: Session, job_id: int, row_id: int) -> tuple[Row, MeasuredRecipe]:
    row = session.get(Row, row_id) if 0 < row_id < 2**31 else None
    if row is None or row.job_id != job_id or row.removed_at is not None:
        raise ROW_GONE
    if not kind_of(row.recipe).takes_hits:
        raise InputError("That row takes no hits.", NOTHING, "Choose a feature.")
    return row, cast(MeasuredRecipe, recipe_of(row))


def _resting(session: Session, job_id: int, row_id: int) -> list[str]:
    """Names of the rows that rest on one."""
    others = session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None), Row.id != row_id))
    return [r.recipe["name"] for r in others if rests_on(recipe_of(r), [row_id])]


def history(session: Session, job_id: int, row_id: int, most: int = 12) -> list[Mapping[str, Any]]:
    """The history of a row, newest first: when, who, what."""
    of_row = Change.detail["row"].as_integer() == row_id
    query = (
        select(Change.at, User.name, Change.act)
        .outerjoin(User, User.id == Change.user_id)
        .where(Change.job_id == job_id, of_row)
        .order_by(Change.id.desc())
        .limit(most)
    )
    return [{"at": at, "who": who or "the instrument", "act": act} for at, who, act in session.execute(query)]
