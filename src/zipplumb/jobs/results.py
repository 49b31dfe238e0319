"""Loading a job and having it worked out.

Raw readings never change, so each batch is fetched once per process and kept; results are
kept too, and evaluate() takes over what did not change.
"""

from __future__ import annotations

import threading
from collections import OrderedDict, defaultdict
from dataclasses import dataclass, field

import numpy as np
from sqlalchemy import ColumnElement, literal_column, select, text
from sqlalchemy.orm import Session, lazyload

from ..core.calibration import ProbeCalibration
from ..core.errors import InputError
from ..core.frames import Motion
from ..core.sheet import Kit, Reading, RowResult, Sheet, SheetRow, Station, evaluate, recipe_from_dict
from ..store import models
from ..store.models import Calibration, Instrument, Job, Mark, Row
from .probes import applied
from .trust import trust_in

JOBS_REMEMBERED = 32


@dataclass(frozen=True, eq=False)
class JobResults:
    """A job as it stands: what was asked, what was read, what was found.

    ``instrument``: the one that stands at this job now; ``due``: why it is to be checked.
    """

    job: Job
    rows: tuple[SheetRow, ...]
    results: dict[int, RowResult]
    readings: dict[int, Reading]
    kit: Kit
    instrument: Instrument | None
    due: tuple[str, ...] = ()

    def row(self, row_id: int) -> SheetRow:
        found = next((r for r in self.rows if r.id == row_id), None)
        if found is None:
            raise InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")
        return found

    @property
    def current(self) -> SheetRow | None:
        return next((r for r in self.rows if r.id == self.job.current_row_id), None)


@dataclass
class _Memory:
    lock: threading.Lock = field(default_factory=threading.Lock)
    batches: dict[int, models.Reading] = field(default_factory=dict)
    rows: dict[int, tuple[str, SheetRow]] = field(default_factory=dict)
    joined: dict[int, tuple[tuple, Reading]] = field(default_factory=dict)
    found: dict = field(default_factory=dict)


_memories: OrderedDict[int, _Memory] = OrderedDict()
_memories_lock = threading.Lock()


def _memory(job_id: int) -> _Memory:
    with _memories_lock:
        memory = _memories.setdefault(job_id, _Memory())
        _memories.move_to_end(job_id)
        while len(_memories) > JOBS_REMEMBERED:
            _memories.popitem(last=False)
        return memory


def load(session: Session, job_id: int) -> JobResults:
    """The job with all its results. Raises InputError for a job that is not there."""
    job = session.get(Job, job_id)
    if job is None:
        raise InputError("That job is not there.", "Nothing was changed.", "Choose a job from the list.")
    memory = _memory(job_id)
    with memory.lock:
        rows = _rows(session, job_id, memory)
        batches = _batches(session, job_id, memory)
        instead = applied(session)
        readings = _readings(batches, _marks(session, job_id), {r.id for r in rows}, memory, instead)
        kit, instrument = _kit(session, job_id, batches, instead)
        sheet = Sheet(rows, job.alignment_row_id)
        results, memory.found = evaluate(sheet, readings, kit, memory.found)
    due = trust_in(session, instrument, job_id).due if instrument else ()
    return JobResults(job, rows, results, readings, kit, instrument, due)


def _rows(session: Session, job_id: int, memory: _Memory) -> tuple[SheetRow, ...]:
    """Rows in order; only those that were written since last time are fetched whole.

    PostgreSQL's ``xmin`` names the transaction that wrote a row's present version; a row
    written by this very transaction is not remembered.
    """
    version: ColumnElement[str] = literal_column("rows.xmin::text")
    query = select(Row.id, version).where(Row.job_id == job_id, Row.removed_at.is_(None))
    versions = session.execute(query.order_by(Row.position, Row.id)).all()
    new = [i for i, written in versions if memory.rows.get(i, ("", None))[0] != written]
    fetched: dict[int, SheetRow] = {}
    if new:
        changed = select(Row.id, Row.recipe, Row.finished_at).where(Row.id.in_(new))
        for row_id, raw, finished_at in session.execute(changed):
            fetched[row_id] = SheetRow(row_id, recipe_from_dict(raw), finished_at is not None)
        ours = session.scalar(text("SELECT pg_current_xact_id_if_assigned()::xid::text"))
        memory.rows.update({i: (written, fetched[i]) for i, written in versions if i in fetched and written != ours})
    return tuple(fetched.get(i) or memory.rows[i][1] for i, _ in versions)


def _batches(session: Session, job_id: int, memory: _Memory) -> list[models.Reading]:
    ids = session.scalars(select(models.Reading.id).where(models.Reading.job_id == job_id)).all()
    new = [i for i in ids if i not in memory.batches]
    if new:
        for batch in session.scalars(select(models.Reading).where(models.Reading.id.in_(new))):
            session.expunge(batch)
            memory.batches[batch.id] = batch
    return [memory.batches[i] for i in sorted(ids)]


def _marks(session: Session, job_id: int) -> dict[int, set[int]]:
    query = (
        select(Mark.reading_id, Mark.hit)
        .join(models.Reading, models.Reading.id == Mark.reading_id)
        .where(models.Reading.job_id == job_id, Mark.lifted_at.is_(None))
    )
    marks: dict[int, set[int]] = defaultdict(set)
    for reading_id, hit in session.execute(query):
        marks[reading_id].add(hit)
    return marks


def _readings(
    batches: list[models.Reading], marks: dict[int, set[int]], rows: set[int], memory: _Memory, instead: dict[int, int]
) -> dict[int, Reading]:
    """``instead``: calibrations that are worked with in the place of those that the readings were made with."""
    by_row: dict[int, list[models.Reading]] = defaultdict(list)
    pull_offs: dict[int, models.Reading] = {}
    for batch in batches:
        if batch.row_id not in rows:
            continue
        if batch.kind == "pull_off":
            pull_offs[batch.row_id] = batch
        else:
            by_row[batch.row_id].append(batch)
    for row, mine in by_row.items():
        pull_off = pull_offs.get(row)
        used = tuple(instead.get(b.calibration_id, b.calibration_id) for b in mine)
        which = tuple((b.id, frozenset(marks.get(b.id, ()))) for b in mine), pull_off.id if pull_off else None, used
        if memory.joined.get(row, (None,))[0] != which:
            memory.joined[row] = which, _joined(mine, marks, pull_off, instead)
    return {row: memory.joined[row][1] for row in by_row}


def _joined(
    batches: list[models.Reading], marks: dict[int, set[int]], pull_off: models.Reading | None, instead: dict[int, int]
) -> Reading:
    counts = [len(b.ns) for b in batches]

    def used(batch: models.Reading) -> int:
        return instead.get(batch.calibration_id, batch.calibration_id)

    return Reading(
        keys=tuple(f"{b.id}.{k}" for b in batches for k in range(len(b.ns))),
        poses=np.concatenate([np.reshape(b.poses, (-1, 7)) for b in batches]),
        approach=np.concatenate([np.reshape(np.array(b.approach, float), (-1, 7)) for b in batches]),
        aside=np.array([k in marks.get(b.id, ()) for b in batches for k in range(len(b.ns))], bool),
        stations=np.repeat([b.station_id for b in batches], counts),
        calibrations=np.repeat([used(b) for b in batches], counts),
        times=np.concatenate([b.times for b in batches]),
        pull_off=np.array(pull_off.poses) if pull_off else None,
        pull_off_station=pull_off.station_id if pull_off else None,
        pull_off_calibration=used(pull_off) if pull_off else None,
    )


def _kit(
    session: Session, job_id: int, batches: list[models.Reading], instead: dict[int, int]
) -> tuple[Kit, Instrument | None]:
    """Stations and calibrations of a job, and the instrument that stands at it now."""
    query = select(models.Station, Instrument).join(Instrument, Instrument.id == models.Station.instrument_id)
    found = session.execute(query.where(models.Station.job_id == job_id).order_by(models.Station.id)).all()
    stations = {
        station.id: Station(station.id, Motion.identity(), None if i.level is None else np.array(i.level), i.u_level_rad)
        for station, i in found
    }
    here = next((instrument for station, instrument in found if instrument.station_id == station.id), None)
    u_hit = max((instrument.u_hit_mm for _, instrument in found), default=0.0)
    used = {instead.get(b.calibration_id, b.calibration_id) for b in batches}
    used |= {i.calibration_id for _, i in found if i.calibration_id}
    calibrations = {
        cal.id: ProbeCalibration(cal.id, np.array(cal.offset_mm), cal.diameter_mm, cal.u_radius_mm, u_hit, cal.doubt)
        for cal in session.scalars(select(Calibration).where(Calibration.id.in_(used)).options(lazyload(Calibration.probe)))
    }
    return Kit(stations, calibrations), here
