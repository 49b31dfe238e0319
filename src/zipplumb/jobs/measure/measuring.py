"""Measuring: keeping hits, finishing, undoing, answering about the side, setting hits aside."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.probing import Way
from ...core.sheet import kind_of
from ...core.units import whole_number
from ...devices.hits import HitBatch
from ...store.database import stored, tell, transaction
from ...store.models import Instrument, Job, Reading, Row
from ..actor import INSTRUMENT, Actor, record
from ..kit import stations
from ..state.readings import forget_pull_offs, must_be_kept, store, take_back
from ..state.readings import set_aside as set_mark
from ..state.recipes import changed, recipe_of
from ..state.results import JobResults, load
from . import astray, chain, clouds, onward, scanning, touching

WAYS = get_args(Way)


def _current(session: Session, job: Job) -> Row:
    row = session.get(Row, job.current_row_id) if job.current_row_id else None
    if row is None or row.removed_at is not None or not _is_read(row):
        raise InputError("No row to measure is current.", "The hit was not kept.", "Choose a feature on the run sheet.")
    return row


def _is_read(row: Row) -> bool:
    """A person measures it, by hits or by light."""
    kind = kind_of(row.recipe)
    return kind.takes_hits or kind.takes_light


def _add(session: Session, instrument: Instrument, job: Job, row: Row, batch: HitBatch) -> None:
    if instrument.calibration_id is None:
        raise InputError("The arm has no calibrated probe.", "The hit was not kept.", "Choose a probe on the Kit page.")
    head = instrument.calibration.probe.name if instrument.calibration else "Nothing"
    if not scanning.scans(instrument) and batch.kind == "stripes":
        raise InputError(
            f"Lines of light came, and {head} is on, which touches.", "They were not kept.", "Choose the scanner on Kit."
        )
    if not scanning.scans(instrument) and kind_of(row.recipe).takes_light:
        raise InputError(
            f"{row.recipe['name']} is scanned, and {head} is on, which touches.", "The hit was not kept.",
            "Choose the scanner on Kit, or another row.",
        )  # fmt: skip
    store(
        session, instrument, batch, job_id=job.id, row_id=row.id, station_id=instrument.station_id,
        calibration_id=instrument.calibration_id,
    )  # fmt: skip


@dataclass(frozen=True)
class AtRow:
    """An instrument at a job, whose presses go to the current row. The job is locked."""

    session: Session
    instrument: Instrument
    job: Job

    def keep(self, batch: HitBatch, pressed: bool) -> str:
        """Keep hits; a finished row is opened again. Each batch is heard, also while the button is held."""
        session, job = self.session, self.job
        if scanning.scans(self.instrument):
            row = scanning.begin(session, job)
        else:
            row = touching.begin(session, job) if job.touching else _current(session, job)
        _add(session, self.instrument, job, row, batch)
        if row.finished_at is not None and not (row.recipe.get("aims") and _was_wanted(session, job, row)):
            row.finished_at = None
            _forget_pull_offs(session, row, None)
        tell(session, job.id, "hits", row=row.id, tone="taken", at=batch.times[-1])
        return "taken"

    def must_have_kept(self, batch: HitBatch) -> None:
        must_be_kept(self.session, self.instrument, batch, job_id=self.job.id)

    def finish(self, batch: HitBatch) -> str:
        session, job = self.session, self.job
        if chain.settle(session, job):
            return "finished"
        row = (scanning.row_of(session, job) if scanning.scans(self.instrument) else None) or _current(session, job)
        again = row.finished_at is not None
        _add(session, self.instrument, job, row, batch)
        session.flush()
        return _finish(session, INSTRUMENT, job, row, again, self.instrument.station_id)

    def undo(self, sweep: bool) -> str:
        return _undo(self.session, INSTRUMENT, self.job, sweep)

    def step(self, by: int) -> str:
        return _step(self.session, INSTRUMENT, self.job, by)

    def next_way(self) -> str:
        return _next_way(self.session, INSTRUMENT, self.job)

    def just_touch(self) -> str:
        return touching.turn_on(self.session, INSTRUMENT, self.job)


def _was_wanted(session: Session, job: Job, row: Row) -> bool:
    """What was just kept of a finished row is no more than was asked for."""
    session.flush()
    state = load(session, job.id)
    return state.results[row.id].hits <= state.row(row.id).recipe.wanted_hits


def finish(actor: Actor, job_id: int) -> str:
    """Finish the current row from the page: no pull-off, so the way in and the nominal tell the side."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        if chain.settle(session, job):
            return "finished"
        row = _current(session, job)
        return _finish(session, actor, job, row, row.finished_at is not None)


def _finish(session: Session, actor: Actor, job: Job, row: Row, again: bool, station: int | None = None) -> str:
    row.finished_at = datetime.now(UTC)
    session.flush()
    state = load(session, job.id)
    if row.recipe.get("gives"):
        clouds.give_to_open(session, actor, state, row)
        state = load(session, job.id)
    if state.row(row.id).recipe.proposes:
        row = touching.accept(session, actor, state, job, row)
        state = load(session, job.id)
    found = state.results[row.id]
    if found.state in ("todo", "failed"):
        raise InputError(
            found.message or "There is no hit yet.", "All hits are kept; the row stays open.", "Take more hits, then finish."
        )
    if found.state == "asks" and again and found.elsewhere:
        changed(row, as_touched=True)
        session.flush()
        state = load(session, job.id)
        found = state.results[row.id]
    elif found.state == "asks" and again and found.side and "pull_off" in found.side.witnesses:
        pulled = recipe_of(row).pulled_side(found.side.witnesses["pull_off"])  # type: ignore[attr-defined]
        changed(row, settled_air=pulled)
        session.flush()
        state = load(session, job.id)
        found = state.results[row.id]
    tone = "asks" if found.state == "asks" else found.verdict.word if found.verdict else "finished"
    if found.state == "done":
        if not job.touching:
            job.current_row_id = _next_row(state, row.id, station)
        chain.follow(session, actor, job, row.id)
    record(session, actor, job.id, "finish", row=row.id)
    tell(session, job.id, "finish", row=row.id, tone=tone)
    return tone


def _next_row(state: JobResults, after: int, station: int | None) -> int | None:
    """The next point that ties the station, where one was just read for that; else the next feature."""
    if stations.tie_words(state, state.row(after)):
        here = station or (state.station.id if state.station else None)
        if (tie := stations.next_tie(state, here)) is not None:
            return tie
    return onward.next_to_measure(state, after)


def undo(actor: Actor, job_id: int, sweep: bool) -> str:
    actor.must_change()
    with transaction() as session:
        return _undo(session, actor, stored(session, Job, job_id, lock=True), sweep)


def _undo(session: Session, actor: Actor, job: Job, sweep: bool) -> str:
    """Take back the last thing done: a finish (the row is open again), or else a hit or its whole sweep."""
    row = _current(session, job)
    if row.finished_at is not None:
        return _reopen_last(session, actor, job)
    taken_back = take_back(session, Reading.row_id.in_(_rows_read(row)), sweep, actor.id)
    if not taken_back:
        return _reopen_last(session, actor, job)
    row.finished_at = None
    record(session, actor, job.id, "undo", row=row.id, **taken_back)
    tell(session, job.id, _what_changed(row), row=row.id, tone="undone")
    return "undone"


def _rows_read(row: Row) -> list[int]:
    """The row, and those whose hits it has taken over."""
    return [row.id, *row.recipe.get("hits_of", ())]


def _what_changed(row: Row) -> str:
    """The change to announce when its hits, or hits that it has taken over, change."""
    return "sheet" if row.recipe.get("hits_of") else "hits"


def _forget_pull_offs(session: Session, row: Row, by: int | None) -> None:
    for row_id in _rows_read(row):
        forget_pull_offs(session, row_id, by)


def _reopen_last(session: Session, actor: Actor, job: Job) -> str:
    last = session.scalar(
        select(Row)
        .where(Row.job_id == job.id, Row.removed_at.is_(None), Row.finished_at.isnot(None))
        .order_by(Row.finished_at.desc(), scanning.LIGHT.desc())  # rows that were given its points are finished with a scan
        .limit(1)
    )
    if last is None:
        raise InputError("There is nothing to take back.", "Nothing was changed.", "Take a hit first.")
    last.finished_at = None
    _forget_pull_offs(session, last, actor.id)
    changed(last, **kind_of(last.recipe).answered)
    job.current_row_id = last.id
    chain.take_back(session, job, last.id)
    record(session, actor, job.id, "open again", row=last.id)
    tell(session, job.id, "rows", row=last.id, tone="undone")
    return "undone"


def next_way(actor: Actor, job_id: int) -> str:
    """The current row takes in another way while the button is held: by distance, by time, when still, by presses only."""
    actor.must_change()
    with transaction() as session:
        return _next_way(session, actor, stored(session, Job, job_id, lock=True))


def _next_way(session: Session, actor: Actor, job: Job) -> str:
    row = _current(session, job)
    if not kind_of(row.recipe).takes_hits:
        raise InputError(f"{row.recipe['name']} takes all light while the button is held.", "Nothing was changed.", "Scan on.")
    before = row.recipe["taking"]
    changed(row, taking=WAYS[(WAYS.index(before) + 1) % len(WAYS)])
    record(session, actor, job.id, "way of taking", row=row.id, before=before, after=row.recipe["taking"])
    tell(session, job.id, "sheet", row=row.id, tone="moved")
    return "moved"


def step(actor: Actor, job_id: int, by: int) -> None:
    actor.must_change()
    with transaction() as session:
        _step(session, actor, stored(session, Job, job_id, lock=True), by)


def _step(session: Session, actor: Actor, job: Job, by: int) -> str:
    """The next row or the one before; of what is being touched, the next of what it may be. Behind the last row: just touch."""
    row = touching.being_touched(session, job)
    if row is not None and (state := load(session, job.id)).results[row.id].hits:
        return touching.choose(session, actor, state, row, by)
    if chain.step(session, actor, job, by):
        return "moved"
    rows = session.scalars(select(Row).where(Row.job_id == job.id, Row.removed_at.is_(None)).order_by(Row.position, Row.id))
    ids = [row.id for row in rows if _is_read(row)]
    if not ids:
        raise InputError("There is no row to measure.", "Nothing was changed.", "Plan a row on the Part page.")
    at = len(ids) if job.touching else ids.index(job.current_row_id) if job.current_row_id in ids else 0
    to = (at + by) % (len(ids) + 1)
    if to == len(ids):
        return touching.turn_to(session, actor, job, "space")
    _go_to(session, actor, job, ids[to])
    return "moved"


def make_current(actor: Actor, job_id: int, row_id: int) -> None:
    """The row that the next hit goes to."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        _go_to(session, actor, job, _measured(session, job_id, row_id).id)


def _go_to(session: Session, actor: Actor, job: Job, row_id: int) -> None:
    if job.current_row_id != row_id:
        record(session, actor, job.id, "go to", row=row_id)
    job.touching, job.current_row_id = "", row_id
    tell(session, job.id, "rows", tone="moved")


def _measured(session: Session, job_id: int, row_id: int) -> Row:
    row = session.get(Row, row_id)
    if row is None or row.job_id != job_id or row.removed_at or not _is_read(row):
        raise InputError("That row takes no hits.", "Nothing was changed.", "Choose a feature.")
    return row


def choose(actor: Actor, job_id: int, row_id: int, code: str) -> None:
    """Carry out the answer that a person chose: about hits that lie elsewhere, an offered dimension, or a recognised shape."""
    if not astray.choose(actor, job_id, row_id, code) and not chain.choose(actor, job_id, row_id, code):
        touching.choose_by_code(actor, job_id, row_id, code)


def settle_side(actor: Actor, job_id: int, row_id: int, air: int) -> None:
    """A person's answer. For a plane +1: as pulled off, -1: the other side; else +1 outside, -1 inside."""
    actor.must_change()
    if air not in (-1, 1):
        raise InputError("A side is inside or outside.", "Nothing was changed.", "Choose one of the two.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row = _measured(session, job_id, row_id)
        changed(row, settled_air=air)
        session.flush()
        onward.from_answered(session, actor, job, row_id)
        record(session, actor, job_id, "settle the side", row=row_id, air=air)
        tell(session, job_id, "rows", row=row_id, tone="finished")


def set_aside(actor: Actor, job_id: int, row_id: int, key: str, aside: bool) -> None:
    """Mark a hit as not counting, or lift the mark. The reading itself stays as it came."""
    actor.must_change()
    reading_id, hit = (whole_number(part) for part in key.partition(".")[::2])
    with transaction() as session:
        reading = session.get(Reading, reading_id) if reading_id is not None and hit is not None else None
        row = session.get(Row, row_id)
        if (
            reading is None or hit is None or row is None or reading.row_id not in _rows_read(row) or reading.job_id != job_id
            or hit >= len(reading.ns)
        ):  # fmt: skip
            raise InputError("That hit is not on this row.", "Nothing was changed.", "Open the row again.")
        set_mark(session, reading, hit, aside, actor.id)
        record(session, actor, job_id, "set aside" if aside else "count again", row=row_id, hit=key)
        tell(session, job_id, _what_changed(row), row=row_id)
