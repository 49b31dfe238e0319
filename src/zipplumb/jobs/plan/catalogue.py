"""The jobs there are: searched, sorted, put away, removed, and brought back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Text, cast, func, or_, select, true
from sqlalchemy.orm import Session

from ...core.errors import InputError, NotAllowed
from ...store.database import stored, tell, transaction
from ...store.models import Change, Instrument, Job, Part, Row, Station, User
from ...store.pieces import Outcome
from ..actor import Actor, record
from ..state.recipes import whose_kind

PAGE, LONGEST_SEARCH = 100, 80
KEPT_DAYS = 30  # that an administrator may bring a removed job back
SHOWN = {"": "all", "mine": "mine", "unfinished": "not finished", "out": "something is out", "archived": "put away"}
REMOVED = "removed"  # what an administrator may look at too
ORDERS = {"": "the latest first", "name": "by name", "begun": "the newest first"}
KEPT = "Nothing was changed."


@dataclass(frozen=True)
class JobLine:
    """A job, and of its pieces the one, ``id``, that was changed last. ``rows`` that are to be measured, ``done`` of them, of
    that piece; ``pieces`` of the job, ``measured`` of them; ``out``: rows of all pieces that were found out; ``last``: when
    somebody last changed it, and ``by`` whom."""

    id: int
    name: str
    serial: str
    part: str
    rows: int
    done: int
    pieces: int
    measured: int
    out: int
    last: datetime
    by: str
    archived: bool
    removed: datetime | None

    @property
    def state(self) -> str:
        """In a word or two."""
        if not self.rows:
            return "nothing planned"
        return "measured" if self.done == self.rows else "not begun" if not self.done else "being measured"

    @property
    def how_far(self) -> str:
        if self.pieces > 1:
            return f"{self.measured} of {self.pieces} pieces measured"
        return f"{self.done} of {self.rows} measured"


@dataclass(frozen=True)
class Catalogue:
    """Some of the jobs, in order; ``more``: there are others behind them."""

    lines: list[JobLine]
    more: bool


def jobs_there(session: Session, actor: Actor, search: str = "", shown: str = "", order: str = "", after: int = 0) -> Catalogue:
    """``search``: a part of the name of a job or its part; ``shown``: a key of ``SHOWN`` or, of an administrator, ``REMOVED``;
    ``order``: a key of ``ORDERS``; ``after``: so many are passed over. What is none of these is taken as the first of them."""
    last = (
        select(Change.at, Change.user_id).where(Change.job_id == Job.id).order_by(Change.at.desc()).limit(1).lateral("last")
    )  # fmt: skip
    at = func.coalesce(last.c.at, Job.created_at)
    place = func.row_number().over(partition_by=Job.of_job, order_by=(at.desc(), Job.id.desc()))
    each = (
        select(Job.id, Job.of_job.label("of_job"), at.label("last"), last.c.user_id.label("user_id"), place.label("place"))
        .join(Part, Part.id == Job.part_id)
        .outerjoin(last, true())
        .where(*_wanted(actor, search, shown))
        .subquery()
    )
    by = {"name": (func.lower(Job.name), each.c.id), "begun": (each.c.of_job.desc(),)}
    in_order = by.get(order, (each.c.last.desc(), each.c.id.desc()))
    query = (
        select(
            each.c.id, each.c.of_job, each.c.last, Job.name, Job.serial, Part.name.label("part"), User.name.label("by"),
            Job.archived_at, Job.removed_at,
        )
        .join(Job, Job.id == each.c.id)
        .join(Part, Part.id == Job.part_id)
        .outerjoin(User, User.id == each.c.user_id)
        .where(each.c.place == 1)
        .order_by(*in_order)
        .offset(after)
        .limit(PAGE + 1)
    )  # fmt: skip
    found = session.execute(query).all()
    told = _of_jobs(session, [line.of_job for line in found[:PAGE]], any(line.removed_at for line in found))
    return Catalogue([_line(line, told[line.of_job]) for line in found[:PAGE]], len(found) > PAGE)


@dataclass
class _Pieces:
    """Of one job: rows that are to be measured and are, by piece; and how many rows are out."""

    rows: dict[int, tuple[int, int]]
    out: int = 0


def _line(line: Any, pieces: _Pieces) -> JobLine:
    rows, done = pieces.rows[line.id]
    measured = sum(0 < there == finished for there, finished in pieces.rows.values())
    return JobLine(
        line.id, line.name, line.serial, line.part, rows, done, len(pieces.rows), measured, pieces.out, line.last,
        line.by or "", line.archived_at is not None, line.removed_at,
    )  # fmt: skip


def _of_jobs(session: Session, jobs: Sequence[int], removed: bool) -> dict[int, _Pieces]:
    found = {job: _Pieces({}) for job in jobs}
    there = Job.of_job.in_(jobs), Job.removed_at.is_not(None) if removed else Job.removed_at.is_(None)
    query = select(Job.of_job, Job.id, Outcome.out).outerjoin(Outcome, Outcome.piece_id == Job.id).where(*there)
    pieces = session.execute(query).all()
    counts = _counts(session, [piece for _, piece, _ in pieces])
    for job, piece, out in pieces:
        found[job].rows[piece] = counts.get(piece, (0, 0))
        found[job].out += out or 0
    return found


def _to_measure() -> tuple[ColumnElement[bool], ...]:
    return Row.removed_at.is_(None), whose_kind(lambda kind: kind.takes_hits)


def _counts(session: Session, jobs: Sequence[int]) -> dict[int, tuple[int, int]]:
    """By job, how many rows are to be measured, and how many of these are finished."""
    query = select(Row.job_id, func.count(Row.id), func.count(Row.finished_at)).where(Row.job_id.in_(jobs), *_to_measure())
    return {job: (rows, done) for job, rows, done in session.execute(query.group_by(Row.job_id))}


def _wanted(actor: Actor, search: str, shown: str) -> list[ColumnElement[bool]]:
    if shown == REMOVED and actor.role == "administrator":
        found: list[ColumnElement[bool]] = [Job.removed_at > datetime.now(UTC) - timedelta(days=KEPT_DAYS)]
    else:
        found = [Job.removed_at.is_(None), Job.archived_at.is_not(None) if shown == "archived" else Job.archived_at.is_(None)]
    if shown == "mine":
        mine = select(Change.id).where(Change.user_id == actor.id, Change.job_id == Job.id)
        found.append(or_(Job.created_by == actor.id, mine.exists()))
    if shown == "unfinished":
        found.append(select(Row.id).where(Row.job_id == Job.id, Row.finished_at.is_(None), *_to_measure()).exists())
    if shown == "out":
        found.append(select(Outcome.piece_id).where(Outcome.piece_id == Job.id, Outcome.out > 0).exists())
    if search := search.strip()[:LONGEST_SEARCH]:
        like = f"%{search.replace('!', '!!').replace('%', '!%').replace('_', '!_')}%"
        identity = cast(Job.identity, Text)
        found.append(or_(*(each.ilike(like, escape="!") for each in (Job.name, Part.name, Job.serial, identity))))
    return found


def put_away(actor: Actor, job_id: int, away: bool) -> None:
    """A job with all its pieces: out of the list, or into it again; it is the same job."""
    actor.must_change()
    with transaction() as session:
        for job in _with_others(session, job_id):
            job.archived_at = (job.archived_at or datetime.now(UTC)) if away else None
            record(session, actor, job.id, "put away" if away else "take out again")


def remove(actor: Actor, job_id: int, piece_alone: bool = False) -> None:
    """A job with all its pieces, or one piece of it; for good after ``KEPT_DAYS``, unless an administrator brings it back.
    Raises InputError while an instrument stands there."""
    actor.must_change()
    with transaction() as session:
        jobs = [_job(session, job_id)] if piece_alone else _with_others(session, job_id)
        there = select(Instrument.name).join(Station, Station.id == Instrument.station_id)
        here = session.scalar(there.where(Station.job_id.in_([job.id for job in jobs])).limit(1))
        if here is not None:
            raise InputError(f"{here} stands at this job.", KEPT, "Bring it to another job first.")
        now = datetime.now(UTC)
        for job in jobs:
            job.removed_at, job.removed_by = now, actor.id
            record(session, actor, job.id, "remove job", name=job.called)
            tell(session, job.id, "removed")


def bring_back(actor: Actor, job_id: int) -> None:
    """A removed job with what was removed together with it, within ``KEPT_DAYS``. Raises NotAllowed, InputError."""
    if actor.role != "administrator":
        raise NotAllowed("Only an administrator may do that.", KEPT, "Ask one.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        if job.removed_at is None or job.removed_at < datetime.now(UTC) - timedelta(days=KEPT_DAYS):
            raise InputError("That job is not among the removed ones.", KEPT, "Choose one from the list.")
        together = select(Job).where(Job.of_job == job.of_job, Job.removed_at == job.removed_at)
        for each in session.scalars(together.with_for_update(key_share=True)):
            each.removed_at = each.removed_by = None
            record(session, actor, each.id, "bring job back")


def _with_others(session: Session, job_id: int) -> list[Job]:
    """A job's pieces that are there, locked. Raises InputError where the one that is named was removed."""
    of_job = _job(session, job_id).of_job
    there = select(Job).where(Job.of_job == of_job, Job.removed_at.is_(None)).order_by(Job.id)
    return list(session.scalars(there.with_for_update(key_share=True)))


def _job(session: Session, job_id: int) -> Job:
    job = stored(session, Job, job_id, lock=True)
    if job.removed_at is not None:
        raise InputError("That job was removed.", KEPT, "An administrator may bring it back.")
    return job


def is_removed(job_id: int) -> bool:
    with transaction() as session:
        return session.scalar(select(Job.removed_at).where(Job.id == job_id)) is not None
