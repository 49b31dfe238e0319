"""Loading a job and having it worked out.

Raw readings never change, so each batch is fetched once per process and kept; results are
kept too, and evaluate() takes over what did not change.
"""

from __future__ import annotations

import threading
from collections import OrderedDict, defaultdict
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, literal_column, select, text
from sqlalchemy.orm import Session, lazyload

from ..cad import CadModel
from ..core.alignment import Alignment
from ..core.calibration import ProbeCalibration
from ..core.errors import InputError
from ..core.frames import Motion
from ..core.readings import Reading
from ..core.sheet import Kit, PartSurfaces, RowResult, Sheet, SheetRow, Station, evaluate, recipe_from_dict
from ..core.units import Unit
from ..store import models
from ..store.models import Calibration, Instrument, Job, Row
from .probes import applied_calibrations
from .readings import marks_of, together
from .trust import trust_in

JOBS_REMEMBERED = 32


@dataclass(frozen=True, eq=False)
class JobResults:
    """A job as it stands: what was asked, what was read, what was found.

    ``instrument``: the one that stands at this job now; ``due``: why it is to be checked. ``remembered``: what
    others keep with the job from one time to the next, by name and row.
    """

    job: Job
    rows: tuple[SheetRow, ...]
    results: dict[int, RowResult]
    readings: dict[int, Reading]
    kit: Kit
    instrument: Instrument | None
    due: tuple[str, ...] = ()
    remembered: dict = field(default_factory=dict)

    def row(self, row_id: int) -> SheetRow:
        found = next((r for r in self.rows if r.id == row_id), None)
        if found is None:
            raise InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")
        return found

    def available(self, row_id: int) -> tuple[tuple[str, Unit], ...]:
        """Characteristics that a row may be asked, with their units."""
        return self.row(row_id).recipe.available(self.results[row_id].feature)

    @property
    def measured(self) -> list[SheetRow]:
        """The rows that take hits, in order."""
        return [r for r in self.rows if r.recipe.takes_hits]

    @property
    def alignment(self) -> Alignment | None:
        """The active coordinate system, where it is solved."""
        found = self.results.get(self.job.alignment_row_id) if self.job.alignment_row_id else None
        return found.alignment if found else None

    @property
    def current(self) -> SheetRow | None:
        return next((r for r in self.rows if r.id == self.job.current_row_id), None)


@dataclass
class _Memory:
    lock: threading.Lock = field(default_factory=threading.Lock)
    batches: dict[int, models.Reading] = field(default_factory=dict)
    rows: dict[int, tuple[str, SheetRow]] = field(default_factory=dict)
    joined: dict[int, tuple[tuple, Reading | None]] = field(default_factory=dict)
    found: dict = field(default_factory=dict)
    order: tuple[int, ...] | None = None
    newest: int = 0
    remembered: dict = field(default_factory=dict)
    surfaces: PartSurfaces | None = None


_memories: OrderedDict[int, _Memory] = OrderedDict()
_memories_lock = threading.Lock()


def _memory(job_id: int) -> _Memory:
    with _memories_lock:
        memory = _memories.setdefault(job_id, _Memory())
        _memories.move_to_end(job_id)
        while len(_memories) > JOBS_REMEMBERED:
            _memories.popitem(last=False)
        return memory


def load(session: Session, job_id: int, named: set[int] | None = None) -> JobResults:
    """The job with all its results. Raises InputError for a job that is not there.

    ``named``: the only rows that were written since last time, where that is known.
    """
    job = session.get(Job, job_id)
    if job is None:
        raise InputError("That job is not there.", "Nothing was changed.", "Choose a job from the list.")
    memory = _memory(job_id)
    with memory.lock:
        rows = _rows(session, job_id, memory, named)
        batches = _batches(session, job_id, memory)
        applied = applied_calibrations(session)
        readings = _readings(batches, marks_of(session, models.Reading.job_id == job_id), {r.id for r in rows}, memory, applied)
        kit, instrument = _kit(session, job_id, batches, applied)
        sheet = Sheet(rows, job.alignment_row_id)
        results, memory.found = evaluate(sheet, readings, kit, memory.found, _surfaces(job.part, memory, rows))
    due = trust_in(session, instrument, job_id).due if instrument else ()
    return JobResults(job, rows, results, readings, kit, instrument, due, memory.remembered)


def _surfaces(part: models.Part, memory: _Memory, rows: tuple[SheetRow, ...]) -> PartSurfaces | None:
    """The part's surfaces, brought in only where a row rests on them."""
    if not any(r.recipe.rests_on_surfaces for r in rows) or part.model is None:
        return None
    from ..cad.surfaces import Surfaces  # heavy, and few jobs need it

    if memory.surfaces is None or memory.surfaces.digest != part.sha256:
        memory.surfaces = PartSurfaces(part.sha256, Surfaces(CadModel.unpack(part.model)).nearest)
    return memory.surfaces


def _rows(session: Session, job_id: int, memory: _Memory, named: set[int] | None) -> tuple[SheetRow, ...]:
    """Rows in order; only those that were written since last time are fetched whole.

    PostgreSQL's ``xmin`` names the transaction that wrote a row's present version; a row
    written by this very transaction is not remembered.
    """
    version: ColumnElement[str] = literal_column("rows.xmin::text")
    query = select(Row.id, version).where(Row.job_id == job_id, Row.removed_at.is_(None))
    if named is not None and memory.order is not None and named <= set(memory.order):
        written_now = dict(session.execute(query.where(Row.id.in_(named))).all())  # type: ignore[arg-type]
        versions = [(i, written_now.get(i, memory.rows[i][0])) for i in memory.order]
    else:
        versions = [(i, written) for i, written in session.execute(query.order_by(Row.position, Row.id))]
    new = [i for i, written in versions if memory.rows.get(i, ("", None))[0] != written]
    fetched: dict[int, SheetRow] = {}
    if new:
        changed = select(Row.id, Row.recipe, Row.finished_at).where(Row.id.in_(new))
        for row_id, raw, finished_at in session.execute(changed):
            fetched[row_id] = SheetRow(row_id, recipe_from_dict(raw), finished_at is not None)
        ours = session.scalar(text("SELECT pg_current_xact_id_if_assigned()::xid::text"))
        memory.rows.update({i: (written, fetched[i]) for i, written in versions if i in fetched and written != ours})
    remembered = all(i in memory.rows for i, _ in versions)
    memory.order = tuple(i for i, _ in versions) if remembered else None
    return tuple(fetched.get(i) or memory.rows[i][1] for i, _ in versions)


def _batches(session: Session, job_id: int, memory: _Memory) -> list[models.Reading]:
    """All batches of a job, in order; only those that are new are fetched.

    Whoever keeps a reading holds the job's lock, so that their ids rise in the order in which they are committed.
    Those of this very transaction may still be taken back, and are not remembered.
    """
    query = select(models.Reading).where(models.Reading.job_id == job_id, models.Reading.id > memory.newest)
    ours = session.scalar(text("SELECT pg_current_xact_id_if_assigned()::xid::text"))
    fetched = session.execute(query.add_columns(literal_column("readings.xmin::text")).order_by(models.Reading.id)).all()
    for batch, _ in fetched:
        session.expunge(batch)
    for batch, written in fetched:
        if written == ours:
            break
        memory.batches[batch.id], memory.newest = batch, batch.id
    return [*memory.batches.values(), *(b for b, _ in fetched if b.id > memory.newest)]


def _readings(
    batches: list[models.Reading], marks: dict[int, set[int]], rows: set[int], memory: _Memory, applied: dict[int, int]
) -> dict[int, Reading]:
    """By row; ``applied``: calibrations that are worked with in the place of those that the readings were made with."""
    by_row: dict[int, list[models.Reading]] = defaultdict(list)
    for batch in batches:
        if batch.row_id is not None and batch.row_id in rows:
            by_row[batch.row_id].append(batch)
    found = {}
    for row, mine in by_row.items():
        used = tuple(_worked_with(b, applied) for b in mine)
        which = tuple((b.id, frozenset(marks.get(b.id, ()))) for b in mine), used
        if memory.joined.get(row, (None,))[0] != which:
            memory.joined[row] = which, together(mine, marks, lambda c: applied.get(c, c))
        reading = memory.joined[row][1]
        if reading is not None:
            found[row] = reading
    return found


def _worked_with(batch: models.Reading, applied: dict[int, int]) -> int:
    """The calibration that a batch is worked out with; 0: none."""
    read_with = batch.calibration_id or 0
    return applied.get(read_with, read_with)


def _kit(
    session: Session, job_id: int, batches: list[models.Reading], applied: dict[int, int]
) -> tuple[Kit, Instrument | None]:
    """Stations and calibrations of a job, and the instrument that stands at it now."""
    query = select(models.Station, Instrument).join(Instrument, Instrument.id == models.Station.instrument_id)
    found = session.execute(query.where(models.Station.job_id == job_id).order_by(models.Station.id)).all()
    told = {b.station_id: b.conditions for b in batches if "level" in b.conditions}  # the newest of each station
    stations = {station.id: _station(station.id, told.get(station.id), i) for station, i in found}
    here = next((instrument for station, instrument in found if instrument.station_id == station.id), None)
    used = {_worked_with(b, applied) for b in batches}
    used |= {i.calibration_id for _, i in found if i.calibration_id}
    calibrations = {
        cal.id: ProbeCalibration(cal.id, np.array(cal.offset_mm), cal.diameter_mm, cal.u_radius_mm, cal.doubt, cal.u_offset_mm)
        for cal in session.scalars(select(Calibration).where(Calibration.id.in_(used)).options(lazyload(Calibration.probe)))
    }
    return Kit(stations, calibrations), here


def _station(station_id: int, told: dict[str, Any] | None, instrument: Instrument) -> Station:
    """With the level that was kept with its newest reading; before the first, as the instrument stands now."""
    now = {"level": instrument.level, "u_level_rad": instrument.u_level_rad}
    told = told or {name: value for name, value in now.items() if value is not None}
    up = np.array(told["level"]) if "level" in told else None
    return Station(station_id, Motion.identity(), up, told.get("u_level_rad", 0.0))
