"""Measuring: keeping hits, finishing, undoing, answering about the side, setting hits aside."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, lazyload

from ..core.errors import InputError
from ..core.sheet import FEATURE_KINDS, FeatureRecipe
from ..devices.hits import HitBatch
from ..store.database import tell, transaction
from ..store.models import DeviceEvent, Instrument, Job, Mark, Reading, Row, Station
from .actor import INSTRUMENT, Actor, record
from .results import JobResults, load


def first_time(session: Session, device_session: str, number: int | None) -> bool:
    """Whether a press is carried out for the first time; part of the act's own transaction."""
    if number is None:
        return True
    done = session.execute(
        insert(DeviceEvent).values(session=device_session, number=number).on_conflict_do_nothing().returning(text("1"))
    )
    return done.first() is not None


def _place(session: Session, instrument_id: int) -> tuple[Instrument, Job]:
    """The job an instrument stands at, locked, so that acts on it follow one another."""
    instrument = session.get(Instrument, instrument_id, options=[lazyload(Instrument.calibration)])
    if instrument is None or instrument.station_id is None:
        raise InputError("This instrument stands at no job.", "The press was not kept.", "Bring it to a job on the Kit page.")
    station = session.get(Station, instrument.station_id)
    job = session.get(Job, station.job_id, with_for_update=True)
    return instrument, job


def _current(session: Session, job: Job) -> Row:
    row = session.get(Row, job.current_row_id) if job.current_row_id else None
    if row is None or row.removed_at is not None or row.recipe["kind"] not in FEATURE_KINDS:
        raise InputError("No row to measure is current.", "The hit was not kept.", "Choose a feature on the run sheet.")
    return row


def _add(session: Session, instrument: Instrument, job: Job, row: Row, batch: HitBatch) -> None:
    if instrument.calibration_id is None:
        raise InputError("The arm has no calibrated probe.", "The hit was not kept.", "Choose a probe on the Kit page.")
    session.execute(
        insert(Reading)
        .values(
            job_id=job.id,
            row_id=row.id,
            station_id=instrument.station_id,
            calibration_id=instrument.calibration_id,
            kind=batch.kind,
            session=batch.session,
            first_n=batch.ns[0],
            sweep=batch.sweep,
            ns=list(batch.ns),
            times=list(batch.times),
            poses=list(batch.poses),
            approach=list(batch.approach),
            faces=list(batch.faces),
            temperature_c=instrument.temperature_c,
        )
        .on_conflict_do_nothing(constraint="readings_once")
    )


def keep_hits(instrument_id: int, batch: HitBatch, number: int | None) -> str:
    """Keep hits for the current row; a finished row is opened again. Returns the tone."""
    with transaction() as session:
        if not first_time(session, batch.session, number):
            return "taken"
        instrument, job = _place(session, instrument_id)
        row = _current(session, job)
        _add(session, instrument, job, row, batch)
        row.finished_at = None
        tell(session, job.id, "hits", row=row.id, tone="taken", at=batch.times[-1])
    return "taken"


def finish_from_device(instrument_id: int, batch: HitBatch, number: int) -> str:
    """Finish the current row with the pull-off that the press came with."""
    with transaction() as session:
        if not first_time(session, batch.session, number):
            return "finished"
        instrument, job = _place(session, instrument_id)
        row = _current(session, job)
        again = row.finished_at is not None
        _add(session, instrument, job, row, batch)
        session.flush()
        return _finish(session, INSTRUMENT, job, row, again)


def finish(actor: Actor, job_id: int) -> str:
    """Finish the current row from the page: no pull-off, so the way in and the nominal tell the side."""
    actor.must_change()
    with transaction() as session:
        job = session.get(Job, job_id, with_for_update=True)
        row = _current(session, job)
        return _finish(session, actor, job, row, row.finished_at is not None)


def _finish(session: Session, actor: Actor, job: Job, row: Row, again: bool) -> str:
    row.finished_at = datetime.now(UTC)
    session.flush()
    state = load(session, job.id)
    found = state.results[row.id]
    if found.state in ("todo", "failed"):
        raise InputError(
            found.message or "There is no hit yet.", "All hits are kept; the row stays open.", "Take more hits, then finish."
        )
    if found.state == "asks" and again and found.side and "pull_off" in found.side.witnesses:
        pulled = 1 if row.recipe["kind"] == "plane" else found.side.witnesses["pull_off"]
        row.recipe = {**row.recipe, "settled_air": pulled}
        session.flush()
        state = load(session, job.id)
        found = state.results[row.id]
    tone = "asks" if found.state == "asks" else found.verdict.word if found.verdict else "finished"
    if found.state == "done":
        job.current_row_id = next_to_measure(state, row.id)
    record(session, actor, job.id, "finish", row=row.id)
    tell(session, job.id, "finish", row=row.id, tone=tone)
    return tone


def next_to_measure(state: JobResults, after: int) -> int | None:
    """The next feature that is not finished, from a row on and round; the row itself if none."""
    features = [r for r in state.rows if isinstance(r.recipe, FeatureRecipe)]
    ids = [r.id for r in features]
    at = ids.index(after) if after in ids else -1
    for row in features[at + 1 :] + features[: at + 1]:
        if not row.finished and row.id != after:
            return row.id
    return after


def undo_from_device(instrument_id: int, sweep: bool, device_session: str, number: int) -> str:
    with transaction() as session:
        if not first_time(session, device_session, number):
            return "undone"
        _, job = _place(session, instrument_id)
        return _undo(session, INSTRUMENT, job, sweep)


def undo(actor: Actor, job_id: int, sweep: bool) -> str:
    actor.must_change()
    with transaction() as session:
        return _undo(session, actor, session.get(Job, job_id, with_for_update=True), sweep)


def _undo(session: Session, actor: Actor, job: Job, sweep: bool) -> str:
    """Take back the last thing done: a finish (the row is open again), or else a hit or its whole sweep."""
    row = _current(session, job)
    if row.finished_at is not None:
        return _reopen_last(session, actor, job)
    batches = session.scalars(
        select(Reading).where(Reading.row_id == row.id, Reading.kind != "pull_off").order_by(Reading.id.desc())
    ).all()
    marked = _marked(session, [b.id for b in batches])
    standing = [(b, k) for b in batches for k in reversed(range(len(b.ns))) if (b.id, k) not in marked]
    if not standing:
        return _reopen_last(session, actor, job)
    last = standing[0][0]
    taken_back = [(b, k) for b, k in standing if b.sweep == last.sweep and b.session == last.session] if sweep else standing[:1]
    for batch, hit in taken_back:
        session.add(Mark(reading_id=batch.id, hit=hit, reason="undone", by=actor.id))
    row.finished_at = None
    record(session, actor, job.id, "undo", row=row.id, hits=[f"{b.id}.{k}" for b, k in taken_back])
    tell(session, job.id, "hits", row=row.id, tone="undone")
    return "undone"


def _marked(session: Session, reading_ids: list[int]) -> set[tuple[int, int]]:
    query = select(Mark.reading_id, Mark.hit).where(Mark.reading_id.in_(reading_ids), Mark.lifted_at.is_(None))
    return {(r, k) for r, k in session.execute(query)}


def _reopen_last(session: Session, actor: Actor, job: Job) -> str:
    last = session.scalar(
        select(Row)
        .where(Row.job_id == job.id, Row.removed_at.is_(None), Row.finished_at.isnot(None))
        .order_by(Row.finished_at.desc())
        .limit(1)
    )
    if last is None:
        raise InputError("There is nothing to take back.", "Nothing was changed.", "Take a hit first.")
    last.finished_at = None
    last.recipe = {**last.recipe, "settled_air": None}
    job.current_row_id = last.id
    record(session, actor, job.id, "open again", row=last.id)
    tell(session, job.id, "rows", row=last.id, tone="undone")
    return "undone"


def step_from_device(instrument_id: int, by: int, device_session: str, number: int) -> str:
    with transaction() as session:
        if not first_time(session, device_session, number):
            return "moved"
        _, job = _place(session, instrument_id)
        return _step(session, job, by)


def step(actor: Actor, job_id: int, by: int) -> None:
    actor.must_change()
    with transaction() as session:
        _step(session, session.get(Job, job_id, with_for_update=True), by)


def _step(session: Session, job: Job, by: int) -> str:
    ids = session.scalars(
        select(Row.id)
        .where(Row.job_id == job.id, Row.removed_at.is_(None), Row.recipe["kind"].astext.in_(FEATURE_KINDS))
        .order_by(Row.position, Row.id)
    ).all()
    if not ids:
        raise InputError("There is no row to measure.", "Nothing was changed.", "Plan a row on the Part page.")
    at = ids.index(job.current_row_id) if job.current_row_id in ids else 0
    job.current_row_id = ids[(at + by) % len(ids)]
    tell(session, job.id, "rows", tone="moved")
    return "moved"


def make_current(actor: Actor, job_id: int, row_id: int) -> None:
    """The row that the next hit goes to."""
    actor.must_change()
    with transaction() as session:
        job = session.get(Job, job_id, with_for_update=True)
        row = session.get(Row, row_id)
        if row is None or row.job_id != job_id or row.removed_at or row.recipe["kind"] not in FEATURE_KINDS:
            raise InputError("That row takes no hits.", "Nothing was changed.", "Choose a feature.")
        job.current_row_id = row_id
        tell(session, job_id, "rows", tone="moved")


def settle_side(actor: Actor, job_id: int, row_id: int, air: int) -> None:
    """A person's answer. For a plane +1: as pulled off, -1: the other side; else +1 outside, -1 inside."""
    actor.must_change()
    if air not in (-1, 1):
        raise InputError("A side is inside or outside.", "Nothing was changed.", "Choose one of the two.")
    with transaction() as session:
        job = session.get(Job, job_id, with_for_update=True)
        row = session.get(Row, row_id)
        if row is None or row.job_id != job_id or row.recipe["kind"] not in FEATURE_KINDS:
            raise InputError("That row has no side.", "Nothing was changed.", "Choose a measured row.")
        row.recipe = {**row.recipe, "settled_air": air}
        session.flush()
        if job.current_row_id == row_id:
            job.current_row_id = next_to_measure(load(session, job_id), row_id)
        record(session, actor, job_id, "settle the side", row=row_id, air=air)
        tell(session, job_id, "rows", row=row_id, tone="finished")


def set_aside(actor: Actor, job_id: int, row_id: int, key: str, aside: bool) -> None:
    """Mark a hit as not counting, or lift the mark. The reading itself stays as it came."""
    actor.must_change()
    reading_id, _, hit = key.partition(".")
    with transaction() as session:
        reading = session.get(Reading, int(reading_id)) if reading_id.isdigit() and hit.isdigit() else None
        if reading is None or reading.row_id != row_id or reading.job_id != job_id or int(hit) >= len(reading.ns):
            raise InputError("That hit is not on this row.", "Nothing was changed.", "Open the row again.")
        standing = session.scalar(
            select(Mark).where(Mark.reading_id == reading.id, Mark.hit == int(hit), Mark.lifted_at.is_(None))
        )
        if aside and standing is None:
            session.add(Mark(reading_id=reading.id, hit=int(hit), reason="aside", by=actor.id))
        elif not aside and standing is not None:
            standing.lifted_at = datetime.now(UTC)
        record(session, actor, job_id, "set aside" if aside else "count again", row=row_id, hit=key)
        tell(session, job_id, "hits", row=row_id)
