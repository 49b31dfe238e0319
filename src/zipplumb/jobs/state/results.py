"""Loading a job and having it worked out: results are kept, and evaluate() takes over what did not change."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import bindparam, func, select, text
from sqlalchemy.orm import Session

from ...core.alignment import Alignment
from ...core.errors import InputError
from ...core.frames import Array, Motion
from ...core.readings import HitSet
from ...core.sameness import Layered
from ...core.sheet import (
    FoundNetwork,
    Kit,
    PartSurfaces,
    RowResult,
    Sheet,
    SheetRow,
    StationPose,
    Untied,
    evaluate,
    recipe_from_dict,
)
from ...core.sheet.clouds import Asked
from ...core.units import Unit
from ...store.models import Instrument, Job, Mark, Row
from .clouds import ask_for, kept_in
from .readings import Batch, applied_calibrations, by_batch
from .remembered import (
    NO_SPOTS,
    VERSION,
    JobMemory,
    RowMarks,
    faces_of,
    forget_whose_hits,
    memory_of,
    new_batches,
    reach_of,
    readings_of,
    sheet_of,
    spots_of,
    surfaces_of,
    with_joined,
)  # fmt: skip
from .stood import StoodHere, stood_at

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

HEARD = ("link_up", "seen_at", "trouble", "target")
GLANCED_AT_S = 1.0
# another after each transaction that wrote anything, and none within one that has written itself
WRITTEN = text("SELECT CASE WHEN pg_current_xact_id_if_assigned() IS NULL THEN pg_current_snapshot()::text END")


@dataclass(frozen=True, eq=False)
class JobResults:
    """A job loaded and evaluated: recipes, readings, results.

    ``instrument``: the one that was brought to this job last. ``stations``: where each stands; ``network``: how they are
    tied, where there are several; ``stood``: what stood at each; ``read_from``: the stations from which something was
    read. ``wanted``: what is to be worked out of scans, by its key.
    ``remembered``: what others keep with the job from one time to the next,
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
    wanted: Mapping[str, Asked] = field(default_factory=dict)

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
    def drawn_from_world(self) -> Motion:
        """To where things are drawn: in the part where it is aligned, else as they lie in the world."""
        return Motion.identity() if self.alignment is None else self.alignment.part_from_world

    def shape_of(self, row: SheetRow) -> Any:
        """What a row should be, or, where nobody said so, what it was found to be, in the world; None where it is neither."""
        found = self.results[row.id].feature
        measured = None if found is None or found.feature is None else found.feature.shape
        return row.recipe.should_be if row.recipe.should_be is not None else measured

    @property
    def alignment(self) -> Alignment | None:
        """The active coordinate system, where it is solved."""
        found = self.results.get(self.job.alignment_row_id) if self.job.alignment_row_id else None
        return found.alignment if found else None

    @property
    def current(self) -> SheetRow | None:
        place = self.sheet.index.get(self.job.current_row_id or 0)
        return None if place is None else self.rows[place]


def load(session: Session, job_id: int, named: set[int] | None = None) -> JobResults:
    """The job with all its results. Raises InputError for a job that is not there.

    ``named``: where it is known that nothing but hits of these rows came since last time; then nothing else is asked for.
    """
    memory = memory_of(job_id)
    with memory.lock:
        memory.written, written = None, None if named is not None else session.scalar(WRITTEN)
        job = None if named is not None else session.get(Job, job_id)
        handed_over = job is not None and job.handed_over != memory.handed_over
        if job is not None and handed_over:
            forget_whose_hits(memory, job.handed_over)
        new = new_batches(session, job_id, memory)
        if handed_over and not all(kept for _, kept in new):  # by this very transaction: read once more after it
            memory.handed_over = -1
        before = memory.before
        if named is not None and before is not None and {b.row_id for b, _ in new} <= named and _known(new, before.kit):
            cached = _hits_came(session, job_id, memory, named, new, before)
            found = _in(session, cached)
            if found.instrument is not None:  # that it is there is written again and again, and told of to nobody
                session.refresh(found.instrument, HEARD)
        else:
            found = _whole(session, job_id, memory, new)
            cached = _apart(found)
        memory.before = cached if all(kept for _, kept in new) else None
        memory.written, memory.at = written, time.monotonic()
        return found


def as_it_stands(session: Session, job_id: int) -> JobResults:
    """The job's results for reading only: those cached in this process, while nothing was written to the database since."""
    memory = memory_of(job_id)
    with memory.lock:
        before, written = memory.before, memory.written
    if before is None or written is None or session.scalar(WRITTEN) != written:
        return load(session, job_id)
    return _in(session, before)


def as_it_was(session: Session, job_id: int, row_id: int) -> JobResults:
    """The job's results for what is only glanced at of a row, again and again: at most a second old."""
    memory = memory_of(job_id)
    with memory.lock:
        before = memory.before if time.monotonic() - memory.at < GLANCED_AT_S else None
    if before is None or row_id not in before.sheet.index:
        return load(session, job_id)
    return _in(session, before)


def _in(session: Session, found: JobResults) -> JobResults:
    """Cached results with their job and instrument attached to a session."""
    instrument = session.merge(found.instrument, load=False) if found.instrument is not None else None
    return replace(found, job=session.merge(found.job, load=False), instrument=instrument)


def _apart(found: JobResults) -> JobResults:
    """For the cache: with copies of job and instrument that are in no session, which would change or expire them."""
    with Session() as alone:
        apart = _in(alone, found)
        alone.expunge_all()
    return apart


def _hits_came(
    session: Session, job_id: int, memory: JobMemory, named: set[int], new: list[tuple[Batch, bool]], before: JobResults
) -> JobResults:
    marks: RowMarks = {}
    for row_id, written, raw, finished, pairs in session.connection().execute(AS_ASKED, {"rows": list(named), "job": job_id}):
        if pairs:
            marks[row_id] = by_batch(pairs)
        if memory.rows.get(row_id, ("",))[0] != written:
            memory.rows[row_id] = written, SheetRow(row_id, recipe_from_dict(raw), finished is not None)
    sheet = before.sheet.changed(memory.rows[row_id][1] for row_id in named & before.sheet.index.keys())
    readings = with_joined(sheet, readings_of(memory, new, marks, named), memory)
    results, memory.found = evaluate(sheet, readings, before.kit, memory.found, before.surfaces, kept_in(session))
    found = memory.found
    ask_for(session, job_id, found.wanted)
    return replace(
        before,
        sheet=sheet,
        results=results,
        readings=readings,
        stations=found.stations,
        network=found.network,
        wanted=found.wanted,
    )


def _whole(session: Session, job_id: int, memory: JobMemory, new: list[tuple[Batch, bool]]) -> JobResults:
    job = session.get(Job, job_id)
    if job is None:
        raise InputError("That job is not there.", "Nothing was changed.", "Choose a job from the list.")
    sheet = sheet_of(session, job, memory)
    applied = applied_calibrations(session)
    if applied != memory.applied:
        memory.applied, memory.marks, memory.readings = applied, {}, Layered({})
    marks: RowMarks = {row_id: by_batch(pairs) for row_id, pairs in session.execute(MARKS_OF_JOB, {"job": job_id})}
    readings = with_joined(sheet, readings_of(memory, new, marks, marks.keys() | memory.marks.keys()), memory)
    first = dict.fromkeys([*memory.first_read, *(b.station_id for b, _ in new)])
    told = memory.told | {b.station_id: b.conditions for b, _ in new if "level" in b.conditions}
    read_with = {memory.applied.get(c, c) for c in memory.read_with | {b.calibration_id for b, _ in new}}
    kit, instrument, stood = stood_at(session, job_id, first, told, read_with)
    if memory.before is not None and _alike(kit, memory.before.kit):
        kit = memory.before.kit
    surfaces = surfaces_of(job, memory, sheet)
    results, memory.found = evaluate(sheet, readings, kit, memory.found, surfaces, kept_in(session))
    ask_for(session, job_id, memory.found.wanted)
    faces, spots = faces_of(job, memory, sheet), spots_of(job, memory, sheet)
    reach = reach_of(job, memory, results)
    return JobResults(
        job, sheet, results, readings, kit, instrument, memory.remembered, faces, spots, reach, surfaces,
        memory.found.stations, memory.found.network, stood, frozenset(memory.first_read), memory.found.wanted,
    )  # fmt: skip


def what_if(state: JobResults, rows: Iterable[SheetRow], alignment: int | None) -> Layered[int, RowResult]:
    """Results with some rows replaced or added, or another active system; nothing is stored.

    Nothing is kept of it. ``rows``: those that are others, or new.
    """
    others = {row.id: row for row in rows}
    standing = tuple(others.pop(row.id, row) for row in state.rows)
    sheet = Sheet((*standing, *others.values()), alignment, state.sheet.rule)
    memory = memory_of(state.job.id)
    with memory.lock:
        surfaces = surfaces_of(state.job, memory, sheet)
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
