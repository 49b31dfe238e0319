"""Loading a job and having it worked out.

Raw readings never change, so each batch is fetched once per process and kept; results are
kept too, and evaluate() takes over what did not change.
"""

from __future__ import annotations

import threading
from collections import OrderedDict, defaultdict
from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, Select, bindparam, func, literal_column, select, text
from sqlalchemy.orm import Session

from ...cad import CadModel
from ...core.alignment import Alignment
from ...core.errors import InputError
from ...core.frames import Array
from ...core.readings import HitSet
from ...core.sameness import Layered
from ...core.sheet import (
    FoundNetwork,
    Kit,
    Memory,
    PartSurfaces,
    RowResult,
    Sheet,
    SheetRow,
    StationPose,
    Untied,
    evaluate,
    recipe_from_dict,
)
from ...core.spots import outermost, spots_on
from ...core.units import Unit
from ...store import models
from ...store.models import Instrument, Job, Mark, Row
from .part_model import model_of
from .readings import Batch, History, applied_calibrations
from .stood import StoodHere, stood_at

JOBS_REMEMBERED = 32
NO_SPOTS = np.empty((0, 3))
EDITION = text(
    "SELECT md5(string_agg(id || ':' || xmin, ',' ORDER BY position, id)) FROM rows WHERE job_id = :job AND removed_at IS NULL"
)
OURS: ColumnElement[str | None] = literal_column("pg_current_xact_id_if_assigned()::xid::text")  # this very transaction
VERSION: ColumnElement[str] = literal_column("rows.xmin::text")  # names the transaction that wrote a row's present version

# asked at every hit, and so put together once
NEWER: Select = (
    select(*models.Reading.__table__.columns, literal_column("readings.xmin::text").label("written"), OURS.label("ours"))
    .where(models.Reading.job_id == bindparam("job"), models.Reading.id > bindparam("newest"))
    .order_by(models.Reading.id)
)
AS_ASKED = select(
    Row.id, VERSION, Row.recipe, Row.finished_at,
    select(func.jsonb_agg(func.jsonb_build_array(Mark.reading_id, Mark.hit)))
    .where(Mark.row_id == Row.id, Mark.lifted_at.is_(None))
    .scalar_subquery(),
).where(Row.id.in_(bindparam("rows", expanding=True)), Row.job_id == bindparam("job"))  # fmt: skip
MARKS_OF_JOB = (
    select(Mark.row_id, func.jsonb_agg(func.jsonb_build_array(Mark.reading_id, Mark.hit)))
    .where(Mark.row_id == Row.id, Row.job_id == bindparam("job"), Mark.lifted_at.is_(None))
    .group_by(Mark.row_id)
)
# another after each transaction that wrote anything, and none within one that has written itself
WRITTEN = text("SELECT CASE WHEN pg_current_xact_id_if_assigned() IS NULL THEN pg_current_snapshot()::text END")
Marks = dict[int, dict[int, frozenset[int]]]  # by row and batch, the numbers of hits that do not count


@dataclass(frozen=True, eq=False)
class JobResults:
    """A job loaded and evaluated: recipes, readings, results.

    ``instrument``: the one that was brought to this job last. ``stations``: where each stands; ``network``: how they are
    tied, where there are several; ``stood``: what stood at each; ``read_from``: the stations from which something was
    read. ``remembered``: what others keep with the job from one time to the next,
    by name and row. ``faces``: of the part's bodies that the job keeps, while something is just touched.
    ``spots`` (n, 3): where the current row's face can be touched, in the part.
    ``reach`` (n, 3): the part's outermost places, once it is aligned. ``surfaces``: the part's, where a row rests on them.
    """

    job: Job
    sheet: Sheet
    results: Layered[int, RowResult]
    readings: Layered[int, HitSet]
    kit: Kit
    instrument: Instrument | None
    remembered: dict = field(default_factory=dict)
    faces: Sequence[dict[str, Any]] = ()
    spots: Array = field(default_factory=lambda: NO_SPOTS)
    reach: Array = field(default_factory=lambda: NO_SPOTS)
    surfaces: PartSurfaces | None = None
    stations: Mapping[int, StationPose | Untied] = field(default_factory=dict)
    network: FoundNetwork | None = None
    stood: Mapping[int, StoodHere] = field(default_factory=dict)
    read_from: Set[int] = frozenset()

    @property
    def world(self) -> int | None:
        """The station in whose axes all results are: the first from which something was read."""
        return next(iter(self.kit.stations), None)

    @property
    def station(self) -> StationPose | None:
        """Where the instrument stands that is at this job now, as the kit says."""
        return self.kit.stations.get(self.instrument.station_id or 0) if self.instrument is not None else None

    @property
    def rows(self) -> tuple[SheetRow, ...]:
        return self.sheet.rows

    def row(self, row_id: int) -> SheetRow:
        return self.rows[self.index_of(row_id)]

    def index_of(self, row_id: int) -> int:
        """Index of a row in the sheet. Raises InputError if it is not on it."""
        found = self.sheet.index.get(row_id)
        if found is None:
            raise InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")
        return found

    def available(self, row_id: int) -> tuple[tuple[str, Unit], ...]:
        """Characteristics that a row may be asked, with their units."""
        return self.row(row_id).recipe.available(self.results[row_id].feature)

    @property
    def measured(self) -> list[SheetRow]:
        """The rows that take hits, in order."""
        return self.sheet.measured

    @property
    def alignment(self) -> Alignment | None:
        """The active coordinate system, where it is solved."""
        found = self.results.get(self.job.alignment_row_id) if self.job.alignment_row_id else None
        return found.alignment if found else None

    @property
    def current(self) -> SheetRow | None:
        place = self.sheet.index.get(self.job.current_row_id or 0)
        return None if place is None else self.rows[place]


@dataclass
class _Memory:
    """The cache of one job in a process.

    ``sheet``: as last read, and ``edition`` names all versions of its rows; ``newest``: the last reading.
    ``written``: names all that had been written, anywhere, when ``before`` was worked out.
    """

    lock: threading.Lock = field(default_factory=threading.Lock)
    rows: dict[int, tuple[str, SheetRow]] = field(default_factory=dict)
    sheet: Sheet | None = None
    edition: str | None = None
    newest: int = 0
    handed_over: int = 0
    marks: Marks = field(default_factory=dict)
    histories: dict[int, History] = field(default_factory=dict)
    readings: Layered[int, HitSet] = field(default_factory=lambda: Layered({}))
    read_with: set[int] = field(default_factory=set)
    first_read: dict[int, None] = field(default_factory=dict)
    told: dict[int, dict[str, Any]] = field(default_factory=dict)
    before: JobResults | None = None
    written: str | None = None
    applied: dict[int, int] = field(default_factory=dict)
    found: Memory | None = None
    remembered: dict = field(default_factory=dict)
    surfaces: PartSurfaces | None = None
    faces: tuple[Any, list[dict[str, Any]]] | None = None
    spots: tuple[Any, Array] | None = None
    reach: tuple[Any, Array] | None = None
    joined: dict[int, tuple[tuple[HitSet, ...], HitSet]] = field(default_factory=dict)


_memories: OrderedDict[int, _Memory] = OrderedDict()
_memories_lock = threading.Lock()


def _memory(job_id: int) -> _Memory:
    with _memories_lock:
        memory = _memories.setdefault(job_id, _Memory())
        _memories.move_to_end(job_id)
        while len(_memories) > JOBS_REMEMBERED:
            _memories.popitem(last=False)
        return memory


def _forget_whose_hits(memory: _Memory, handed_over: int) -> None:
    """Hits went from one row to another: what is kept by row is read anew."""
    blank = _Memory(handed_over=handed_over)
    for name in ("newest", "marks", "histories", "readings", "joined", "before", "handed_over"):
        setattr(memory, name, getattr(blank, name))


def load(session: Session, job_id: int, named: set[int] | None = None) -> JobResults:
    """The job with all its results. Raises InputError for a job that is not there.

    ``named``: where it is known that nothing but hits of these rows came since last time; then nothing else is asked for.
    """
    memory = _memory(job_id)
    with memory.lock:
        job = None if named is not None else session.get(Job, job_id)
        if job is not None and job.handed_over != memory.handed_over:
            _forget_whose_hits(memory, job.handed_over)
        memory.written, written = None, None if named is not None else session.scalar(WRITTEN)
        new = _new_batches(session, job_id, memory)
        before = memory.before
        if named is not None and before is not None and {b.row_id for b, _ in new} <= named and _known(new, before.kit):
            cached = _hits_came(session, job_id, memory, named, new, before)
            found = _in(session, cached)
        else:
            found = _whole(session, job_id, memory, new)
            cached = _apart(found)
        memory.before = cached if all(kept for _, kept in new) else None
        memory.written = written
        return found


def as_it_stands(session: Session, job_id: int) -> JobResults:
    """The job's results for reading only: those cached in this process, while nothing was written to the database since."""
    memory = _memory(job_id)
    with memory.lock:
        before, written = memory.before, memory.written
    if before is None or written is None or session.scalar(WRITTEN) != written:
        return load(session, job_id)
    return _in(session, before)


def _in(session: Session, found: JobResults) -> JobResults:
    """The same results, with their job and instrument in a session."""
    instrument = session.merge(found.instrument, load=False) if found.instrument is not None else None
    return replace(found, job=session.merge(found.job, load=False), instrument=instrument)


def _apart(found: JobResults) -> JobResults:
    """For the cache: with copies of job and instrument that are in no session, which would change or expire them."""
    with Session() as alone:
        apart = _in(alone, found)
        alone.expunge_all()
    return apart


def _hits_came(
    session: Session, job_id: int, memory: _Memory, named: set[int], new: list[tuple[Batch, bool]], before: JobResults
) -> JobResults:
    marks: Marks = {}
    for row_id, written, raw, finished, pairs in session.connection().execute(AS_ASKED, {"rows": list(named), "job": job_id}):
        if pairs:
            marks[row_id] = _by_batch(pairs)
        if memory.rows.get(row_id, ("",))[0] != written:
            memory.rows[row_id] = written, SheetRow(row_id, recipe_from_dict(raw), finished is not None)
    sheet = before.sheet.changed(memory.rows[row_id][1] for row_id in named & before.sheet.index.keys())
    readings = _joined(sheet, _readings(memory, new, marks, named), memory)
    results, memory.found = evaluate(sheet, readings, before.kit, memory.found, before.surfaces)
    found = memory.found
    return replace(before, sheet=sheet, results=results, readings=readings, stations=found.stations, network=found.network)


def _whole(session: Session, job_id: int, memory: _Memory, new: list[tuple[Batch, bool]]) -> JobResults:
    job = session.get(Job, job_id)
    if job is None:
        raise InputError("That job is not there.", "Nothing was changed.", "Choose a job from the list.")
    sheet = _sheet(session, job, memory)
    applied = applied_calibrations(session)
    if applied != memory.applied:
        memory.applied, memory.marks, memory.readings = applied, {}, Layered({})
    marks = {row_id: _by_batch(pairs) for row_id, pairs in session.execute(MARKS_OF_JOB, {"job": job_id})}
    readings = _joined(sheet, _readings(memory, new, marks, marks.keys() | memory.marks.keys()), memory)
    first = dict.fromkeys([*memory.first_read, *(b.station_id for b, _ in new)])
    told = memory.told | {b.station_id: b.conditions for b, _ in new if "level" in b.conditions}
    read_with = {memory.applied.get(c, c) for c in memory.read_with | {b.calibration_id for b, _ in new}}
    kit, instrument, stood = stood_at(session, job_id, first, told, read_with)
    if memory.before is not None and _alike(kit, memory.before.kit):
        kit = memory.before.kit
    surfaces = _surfaces(job, memory, sheet)
    results, memory.found = evaluate(sheet, readings, kit, memory.found, surfaces)
    faces, spots = _faces(job, memory, sheet), _spots(job, memory, sheet)
    reach = _reach(job, memory, results)
    return JobResults(
        job, sheet, results, readings, kit, instrument, memory.remembered, faces, spots, reach, surfaces,
        memory.found.stations, memory.found.network, stood, frozenset(memory.first_read),
    )  # fmt: skip


def what_if(state: JobResults, rows: Iterable[SheetRow], alignment: int | None) -> Layered[int, RowResult]:
    """Results with some rows replaced or added, or another active system; nothing is stored.

    Nothing is kept of it. ``rows``: those that are others, or new.
    """
    others = {row.id: row for row in rows}
    standing = tuple(others.pop(row.id, row) for row in state.rows)
    sheet = Sheet((*standing, *others.values()), alignment, state.sheet.rule)
    memory = _memory(state.job.id)
    with memory.lock:
        surfaces = _surfaces(state.job, memory, sheet)
        return evaluate(sheet, state.readings, state.kit, memory.found, surfaces)[0]


def _known(new: list[tuple[Batch, bool]], kit: Kit) -> bool:
    """The kit has what these were read with."""
    return all(b.station_id in kit.stations and b.calibration_id in kit.calibrations for b, _ in new)


def _alike(one: Kit, other: Kit) -> bool:
    """Two kits say the same."""

    def told(kit: Kit) -> tuple:
        stations = [(i, s.name, s.digest) for i, s in kit.stations.items()]
        return stations, [(i, c.digest) for i, c in sorted(kit.calibrations.items())]

    return told(one) == told(other)


def _surfaces(job: Job, memory: _Memory, sheet: Sheet) -> PartSurfaces | None:
    """The part's surfaces, brought in only where a row rests on them."""
    part = job.part
    if not sheet.rests_on_surfaces or part.model is None:
        return None
    from ...cad.surfaces import Surfaces  # heavy, and few jobs need it

    if memory.surfaces is None or memory.surfaces.digest != part.sha256:
        model = model_of(part)
        assert model is not None
        by_face = cache(lambda face: Surfaces(model, (face,)).nearest)
        memory.surfaces = PartSurfaces(part.sha256, Surfaces(model).nearest, by_face)
    return memory.surfaces


def _faces(job: Job, memory: _Memory, sheet: Sheet) -> Sequence[dict[str, Any]]:
    """The faces of the part, brought in once, while something is measured: hits may lie on any of them."""
    if not job.touching and job.current_row_id not in sheet.index:
        return ()
    kept, sha256 = job.kept_bodies, job.part.sha256
    if memory.faces is None or memory.faces[0] != (sha256, kept):
        memory.faces = (sha256, kept), [f for f in job.part.faces if kept is None or f["body"] in kept]
    return memory.faces[1]


def _spots(job: Job, memory: _Memory, sheet: Sheet) -> Array:
    """Where the current row's face can be touched (n, 3), brought in once for each face that is come to."""
    place = sheet.index.get(job.current_row_id or 0)
    face = None if place is None else sheet.rows[place].recipe.cad_face
    if face is None:
        return NO_SPOTS
    if memory.spots is None or memory.spots[0] != (job.part.sha256, face):  # the part is large: it is asked once
        known = face < len(job.part.faces) and job.part.faces[face]["nominal"] is not None
        model = CadModel.unpack(job.part.model) if known and job.part.model is not None else None
        found = NO_SPOTS if model is None else spots_on(*model.mesh_of(face), seed=face)[0]
        memory.spots = (job.part.sha256, face), found
    return memory.spots[1]


def _reach(job: Job, memory: _Memory, results: Layered[int, RowResult]) -> Array:
    """The outermost places of the bodies that the job keeps (n, 3), brought in once where an alignment is solved."""
    sha256, kept = job.part.sha256, job.kept_bodies
    if memory.reach is None or memory.reach[0] != (sha256, kept):
        if not any(found.alignment is not None for found in results.values()) or job.part.model is None:
            return NO_SPOTS  # the part's model is large, and asked for last
        memory.reach = (sha256, kept), outermost(CadModel.unpack(job.part.model).corners_of(kept))
    return memory.reach[1]


def _sheet(session: Session, job: Job, memory: _Memory) -> Sheet:
    """The rows in order, the very same object while nobody has edited them."""
    edition = session.scalar(EDITION, {"job": job.id})
    sheet = memory.sheet
    if sheet is None or edition != memory.edition:
        rows, ours = _rows(session, job.id, memory)
        sheet = memory.sheet = Sheet(rows, job.alignment_row_id, job.rule)
        memory.edition = None if ours else edition
    elif (sheet.alignment, sheet.rule) != (job.alignment_row_id, job.rule):
        sheet = memory.sheet = replace(sheet, alignment=job.alignment_row_id, rule=job.rule)
    return sheet


def _rows(session: Session, job_id: int, memory: _Memory) -> tuple[tuple[SheetRow, ...], bool]:
    """Rows in order; only those that were written since last time are fetched whole.

    PostgreSQL's ``xmin`` names the transaction that wrote a row's present version; a row
    written by this very transaction is not remembered. The second value: there are such rows.
    """
    query = select(Row.id, VERSION).where(Row.job_id == job_id, Row.removed_at.is_(None))
    versions = session.execute(query.order_by(Row.position, Row.id)).all()
    new = [i for i, written in versions if memory.rows.get(i, ("", None))[0] != written]
    fetched: dict[int, SheetRow] = {}
    ours = None
    if new:
        changed = select(Row.id, Row.recipe, Row.finished_at).where(Row.id.in_(new))
        for row_id, raw, finished_at in session.execute(changed):
            fetched[row_id] = SheetRow(row_id, recipe_from_dict(raw), finished_at is not None)
        ours = session.scalar(select(OURS))
        memory.rows.update({i: (written, fetched[i]) for i, written in versions if i in fetched and written != ours})
    rows = tuple(fetched.get(i) or memory.rows[i][1] for i, _ in versions)
    return rows, ours is not None and any(written == ours for _, written in versions)


def _new_batches(session: Session, job_id: int, memory: _Memory) -> list[tuple[Batch, bool]]:
    """Batches that came since last time, in order, and whether each is kept for good.

    Whoever keeps a reading holds the job's lock, so that their ids rise in the order in which they are committed.
    Those of this very transaction may still be taken back, and are not remembered.
    """
    fetched = session.connection().execute(NEWER, {"job": job_id, "newest": memory.newest})
    return [(Batch.of(kept), kept.written != kept.ours) for kept in fetched]


def _by_batch(pairs: list[tuple[int, int]]) -> dict[int, frozenset[int]]:
    found: dict[int, set[int]] = defaultdict(set)
    for batch, hit in pairs:
        found[batch].add(hit)
    return {batch: frozenset(hits) for batch, hits in found.items()}


def _readings(memory: _Memory, new: list[tuple[Batch, bool]], marks: Marks, asked: Set[int]) -> Layered[int, HitSet]:
    """The readings by row. Only rows of which something is new are put together again. ``asked``: rows whose marks may be
    others."""
    kept, ours = [b for b, good in new if good], [b for b, good in new if not good]
    for batch in kept:
        if batch.station_id:
            memory.first_read.setdefault(batch.station_id)
        if batch.row_id is not None:
            memory.histories.setdefault(batch.row_id, History()).add(batch)
            memory.newest = batch.id
            if "level" in batch.conditions:
                memory.told[batch.station_id] = batch.conditions
            memory.read_with.add(batch.calibration_id)
    stale = {row for row in asked if marks.get(row) != memory.marks.get(row)} | {b.row_id for b in kept if b.row_id is not None}
    memory.marks = {row: each for row, each in memory.marks.items() if row not in asked} | marks
    if not memory.readings:
        stale = set(memory.histories)
    found: dict[int, HitSet] = {}
    for row_id in stale & memory.histories.keys():
        reading = memory.histories[row_id].reading(marks.get(row_id, {}), memory.applied)
        if reading is not None:  # there is none where all batches are pull-offs; hits are never taken away
            found[row_id] = reading
    memory.readings = memory.readings.replaced(found)
    return memory.readings.replaced(_with_ours(memory, ours, marks))


def _joined(sheet: Sheet, readings: Layered[int, HitSet], memory: _Memory) -> Layered[int, HitSet]:
    """With the hits of other rows that some rows have taken over: the very same reading while nothing of them changed."""
    found: dict[int, HitSet] = {}
    for row_id, others in sheet.joins.items():
        parts = tuple(r for i in (*others, row_id) if (r := readings.get(i)) is not None)
        if not parts:
            continue
        before = memory.joined.get(row_id)
        if before is None or len(before[0]) != len(parts) or any(a is not b for a, b in zip(before[0], parts, strict=True)):
            before = memory.joined[row_id] = parts, HitSet.joined(parts)
        found[row_id] = before[1]
    return readings.replaced(found) if found else readings


def _with_ours(memory: _Memory, ours: list[Batch], marks: Marks) -> dict[int, HitSet]:
    """Rows to which this very transaction has added, put together for itself alone."""
    found: dict[int, HitSet] = {}
    for row_id in {b.row_id for b in ours if b.row_id is not None}:
        history = memory.histories.get(row_id, History()).copy()
        for batch in ours:
            if batch.row_id == row_id:
                history.add(batch)
        reading = history.reading(marks.get(row_id, {}), memory.applied)
        if reading is not None:
            found[row_id] = reading
    return found
