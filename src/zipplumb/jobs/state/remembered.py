"""Cache of a job in a process: its recipes, its readings by row, and the surfaces of its part.

Raw readings never change, so each batch is fetched once; only rows of which something is new are put together again.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Sequence, Set
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, Select, bindparam, literal_column, select, text
from sqlalchemy.orm import Session

from ...cad import CadModel
from ...core.frames import Array
from ...core.readings import HitSet
from ...core.sameness import Layered
from ...core.sheet import Memory, PartSurfaces, RowResult, Sheet, SheetRow, recipe_from_dict
from ...core.spots import outermost, spots_on
from ...store import models
from ...store.database import database_url
from ...store.models import Job, Row
from .part_model import model_of
from .readings import OF_BATCH, Batch, History, Marks

JOBS_REMEMBERED = 32
NO_SPOTS = np.empty((0, 3))
EDITION = text(
    "SELECT md5(string_agg(id || ':' || xmin, ',' ORDER BY position, id)) FROM rows WHERE job_id = :job AND removed_at IS NULL"
)
OURS: ColumnElement[str | None] = literal_column("pg_current_xact_id_if_assigned()::xid::text")  # this very transaction
VERSION: ColumnElement[str] = literal_column("rows.xmin::text")  # names the transaction that wrote a row's present version
# asked at every hit, and so put together once
NEWER: Select = (
    select(*OF_BATCH, literal_column("readings.xmin::text").label("written"), OURS.label("ours"))
    .where(models.Reading.job_id == bindparam("job"), models.Reading.id > bindparam("newest"))
    .order_by(models.Reading.id)
)
RowMarks = dict[int, Marks]  # by row


@dataclass
class JobMemory:
    """The cache of one job in a process.

    ``sheet``: as last read, and ``edition`` names all versions of its rows; ``newest``: the last reading.
    ``before``: the job's results as they were worked out last (``JobResults``); ``written`` names all that had been written,
    anywhere, at that time, which was ``at`` by a steady clock, s.
    """

    lock: threading.Lock = field(default_factory=threading.Lock)
    rows: dict[int, tuple[str, SheetRow]] = field(default_factory=dict)
    sheet: Sheet | None = None
    edition: str | None = None
    newest: int = 0
    handed_over: int = 0
    marks: RowMarks = field(default_factory=dict)
    histories: dict[int, History] = field(default_factory=dict)
    readings: Layered[int, HitSet] = field(default_factory=lambda: Layered({}))
    read_with: set[int] = field(default_factory=set)
    first_read: dict[int, None] = field(default_factory=dict)
    told: dict[int, dict[str, Any]] = field(default_factory=dict)
    before: Any = None
    written: str | None = None
    at: float = 0.0
    applied: dict[int, int] = field(default_factory=dict)
    found: Memory | None = None
    remembered: dict = field(default_factory=dict)
    surfaces: PartSurfaces | None = None
    faces: tuple[Any, list[dict[str, Any]]] | None = None
    spots: tuple[Any, Array] | None = None
    reach: tuple[Any, Array] | None = None
    joined: dict[int, tuple[tuple[HitSet, ...], HitSet]] = field(default_factory=dict)


_memories: OrderedDict[tuple[str, int], JobMemory] = OrderedDict()  # by database and job
_memories_lock = threading.Lock()


def memory_of(job_id: int) -> JobMemory:
    with _memories_lock:
        key = database_url(), job_id
        memory = _memories.setdefault(key, JobMemory())
        _memories.move_to_end(key)
        while len(_memories) > JOBS_REMEMBERED:
            _memories.popitem(last=False)
        return memory


def forget_whose_hits(memory: JobMemory, handed_over: int) -> None:
    """Hits went from one row to another: what is kept by row is read anew."""
    blank = JobMemory(handed_over=handed_over)
    for name in ("newest", "marks", "histories", "readings", "joined", "before", "handed_over"):
        setattr(memory, name, getattr(blank, name))


def surfaces_of(job: Job, memory: JobMemory, sheet: Sheet) -> PartSurfaces | None:
    """The part's surfaces, brought in only where a row rests on them."""
    part = job.part
    if not sheet.rests_on_surfaces or part.model is None:
        return None
    from ...cad.surfaces import Surfaces  # heavy, and few jobs need it

    if memory.surfaces is None or memory.surfaces.digest != part.sha256:
        model = model_of(part)
        assert model is not None
        by_face = cache(lambda face: Surfaces(model, (face,)).nearest)
        whole = Surfaces(model)
        memory.surfaces = PartSurfaces(part.sha256, whole.nearest, by_face, lambda points: whole.nearest_faces(points)[:3])
    return memory.surfaces


def faces_of(job: Job, memory: JobMemory, sheet: Sheet) -> Sequence[dict[str, Any]]:
    """The faces of the part, brought in once, while something is measured: hits may lie on any of them."""
    if not job.touching and job.current_row_id not in sheet.index:
        return ()
    kept, sha256 = job.kept_bodies, job.part.sha256
    if memory.faces is None or memory.faces[0] != (sha256, kept):
        memory.faces = (sha256, kept), [f for f in job.part.faces if kept is None or f["body"] in kept]
    return memory.faces[1]


def spots_of(job: Job, memory: JobMemory, sheet: Sheet) -> Array:
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


def reach_of(job: Job, memory: JobMemory, results: Layered[int, RowResult]) -> Array:
    """The outermost places of the bodies that the job keeps (n, 3), brought in once where an alignment is solved."""
    sha256, kept = job.part.sha256, job.kept_bodies
    if memory.reach is None or memory.reach[0] != (sha256, kept):
        if not any(found.alignment is not None for found in results.values()) or job.part.model is None:
            return NO_SPOTS  # the part's model is large, and asked for last
        memory.reach = (sha256, kept), outermost(CadModel.unpack(job.part.model).corners_of(kept))
    return memory.reach[1]


def sheet_of(session: Session, job: Job, memory: JobMemory) -> Sheet:
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


def _rows(session: Session, job_id: int, memory: JobMemory) -> tuple[tuple[SheetRow, ...], bool]:
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


def new_batches(session: Session, job_id: int, memory: JobMemory) -> list[tuple[Batch, bool]]:
    """Batches that came since last time, in order, and whether each is kept for good.

    Whoever keeps a reading holds the job's lock, so that their ids rise in the order in which they are committed.
    Those of this very transaction may still be taken back, and are not remembered.
    """
    fetched = session.connection().execute(NEWER, {"job": job_id, "newest": memory.newest})
    return [(Batch.of(kept), kept.written != kept.ours) for kept in fetched]


def readings_of(memory: JobMemory, new: list[tuple[Batch, bool]], marks: RowMarks, asked: Set[int]) -> Layered[int, HitSet]:
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


def with_joined(sheet: Sheet, readings: Layered[int, HitSet], memory: JobMemory) -> Layered[int, HitSet]:
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


def _with_ours(memory: JobMemory, ours: list[Batch], marks: RowMarks) -> dict[int, HitSet]:
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
