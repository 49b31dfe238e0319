"""Scans as a person has them: cut, given to rows, and drawn from a thinned copy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import cast

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session, undefer

from ...core.cloud.cutting import before
from ...core.cloud.faces import facing, flattest
from ...core.cloud.light import Chunk, Seen, seen
from ...core.cloud.points import CloudPoints
from ...core.errors import InputError
from ...core.shapes import Plane
from ...core.sheet import Needed, SheetRow, StationPose, kind_of
from ...core.sheet.bases.measured import MeasuredRecipe
from ...core.sheet.clouds import FoundCloud, key_prefix
from ...core.sheet.kinds.scan import Cut, ScanRecipe
from ...core.units import length_text
from ...store.database import stored, tell, transaction
from ...store.models import Cloud, Job, Mark, Reading, Row
from ..actor import Actor, record
from ..state.clouds import unpacked
from ..state.recipes import changed, recipe_of
from ..state.results import JobResults, load

NOTHING = np.empty((0, 5), "<f4")
LIVE_EVERY, LIVE_CHUNKS = 8, 64  # points of which one is drawn while it is scanned; readings that are told at once


def scan_row(session: Session, job_id: int, row_id: int) -> tuple[Row, ScanRecipe]:
    """A scan of a job, and its recipe. Raises InputError for another row."""
    row = session.get(Row, row_id)
    if row is None or row.job_id != job_id or row.removed_at or not kind_of(row.recipe).takes_light:
        raise InputError("That is no scan of this job.", "Nothing was changed.", "Choose a scan on the sheet.")
    return row, cast(ScanRecipe, recipe_of(row))


def may_take(state: JobResults) -> list[int]:
    """Rows that could take points of a scan in the active alignment: planned where it can be told, not held by it."""
    held = _rests_on(state, state.job.alignment_row_id)
    return [r.id for r in state.measured if cast(MeasuredRecipe, r.recipe).may_be_scanned and r.id not in held]


def takers(state: JobResults, scan_id: int) -> list[SheetRow]:
    """The features that take points of a scan."""
    return [row for row in state.measured if Needed("cloud", scan_id) in row.needs]


def _rests_on(state: JobResults, row_id: int | None) -> set[int]:
    """All rows that a row rests on, itself too; of scans those that give points by the CAD as the part lies."""
    found: set[int] = set()
    left = [] if row_id is None else [row_id]
    while left:
        if (now := left.pop()) in found or now not in state.sheet.index:
            continue
        found.add(now)
        row = state.row(now)
        left += [n.id for n in row.needs if n.what != "station" and (n.what != "cloud" or row.recipe.takes_by_cad)]
    return found


def give(actor: Actor, job_id: int, scan_id: int, row_ids: list[int]) -> int:
    """Give a scan's points to rows, in the alignment that is in use. Returns how many rows take them."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        scan, recipe = scan_row(session, job_id, scan_id)
        state = load(session, job_id)
        if state.alignment is None:
            raise InputError(
                "The part is not aligned, so nobody knows whose points they are.", "The scan is kept.", "Align it first."
            )
        held = _rests_on(state, job.alignment_row_id)
        if scan_id in held:
            by = " and ".join(state.row(i).recipe.name for i in sorted(held) if Needed("cloud", scan_id) in state.row(i).needs)
            raise InputError(
                f"The alignment in use rests on points of this scan itself, by {by or 'another row'}.",
                "Its points stay as they were given.", "Use another alignment, or take the points back from all rows first.",
            )  # fmt: skip
        able = set(may_take(state))
        wanted = [row_id for row_id in row_ids if row_id in able] if row_ids else sorted(able)
        if not wanted:
            raise InputError(
                "None of these rows is planned on a face or an outline of the CAD, or the alignment rests on them.",
                "The scan is kept.",
                "Plan faces of the part, or choose other rows.",
            )  # fmt: skip
        changed(scan, system=job.alignment_row_id)
        for row_id in wanted:
            row = stored(session, Row, row_id)
            scans = tuple(recipe_of(row).scans)  # type: ignore[attr-defined]
            if scan_id not in scans:
                changed(row, scans=[*scans, scan_id])
            if row.finished_at is None:
                row.finished_at = scan.finished_at
        record(
            session, actor, job_id, "give points", row=scan_id, rows=wanted, system=job.alignment_row_id, before=recipe.system
        )
        tell(session, job_id, "sheet", row=scan_id)
        return len(wanted)


def take_back(actor: Actor, job_id: int, scan_id: int) -> None:
    """Take a scan's points back from all rows."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, _ = scan_row(session, job_id, scan_id)
        rows = [row.id for row in takers(load(session, job_id), scan_id)]
        for row_id in rows:
            row = stored(session, Row, row_id)
            changed(row, scans=[i for i in recipe_of(row).scans if i != scan_id])  # type: ignore[attr-defined]
        changed(scan, system=None)
        record(session, actor, job_id, "take points back", row=scan_id, rows=rows)
        tell(session, job_id, "sheet", row=scan_id)


@dataclass(frozen=True)
class TypedCut:
    """A cut as chosen: a plane of the sheet (None: the scan's own flattest), how far out of it, and whether what lies under it
    goes, or what lies above."""

    row_id: int | None
    offset_mm: float
    above: bool = False


def plane_of(state: JobResults, scan_id: int, row_id: int | None) -> tuple[Plane, str]:
    """The plane of a row, or without one the flattest face that a scan has, facing the scanner; and its name."""
    edges = cloud_of(state, scan_id).edges
    if row_id is None:
        if cloud_of(state, scan_id).state == "waits":
            raise InputError("The scan is being worked out.", "Nothing was changed.", "Try again in a moment.")
        flat = flattest(edges)
        if flat is None:
            raise InputError("Its light ends in no plane yet.", "Nothing was changed.", "Finish it, or scan across more edges.")
        return flat, "its flattest face"
    found = state.results.get(row_id)
    plane = None if found is None or found.feature is None else found.feature.shape
    if not isinstance(plane, Plane):
        raise InputError("That row is no plane yet.", "Nothing was changed.", "Choose a plane that is measured or made.")
    return facing(edges, plane), state.row(row_id).recipe.name


def cloud_of(state: JobResults, scan_id: int) -> FoundCloud:
    found = state.results.get(scan_id)
    if found is None or found.cloud is None:
        raise InputError("That is no scan of this job.", "Nothing was changed.", "Choose a scan on the sheet.")
    return found.cloud


def _cut(state: JobResults, scan_id: int, typed: TypedCut) -> Cut:
    plane, called = plane_of(state, scan_id, typed.row_id)
    point = plane.point + typed.offset_mm * plane.normal
    normal = -plane.normal if typed.above else plane.normal
    side = "above" if typed.above else "under"
    units = state.job.units
    way = "out" if typed.offset_mm > 0 else "in"
    out = f", {length_text(abs(typed.offset_mm), units)} {units} {way}" if typed.offset_mm else ""
    return Cut(point=tuple(point), normal=tuple(normal), name=f"{side} {called}{out}"[:80])


def would_cut(session: Session, state: JobResults, scan_id: int, typed: TypedCut) -> float | None:
    """The share of what is drawn of a scan that a cut would take away; None where nothing is drawn yet."""
    cut, points = _cut(state, scan_id, typed), _shown(session, state, scan_id).points
    return 1 - float(np.count_nonzero(before(points, [cut]))) / len(points) if len(points) else None


def cut_away(actor: Actor, job_id: int, scan_id: int, typed: TypedCut) -> None:
    """Cut away by a plane; nothing that was read is lost."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, recipe = scan_row(session, job_id, scan_id)
        cut = _cut(load(session, job_id), scan_id, typed)
        changed(scan, cuts=[each.model_dump(mode="json") for each in (*recipe.cuts, cut)])
        record(session, actor, job_id, "cut a scan", row=scan_id, cut=cut.model_dump(mode="json"))
        tell(session, job_id, "sheet", row=scan_id)


def uncut(actor: Actor, job_id: int, scan_id: int, number: int) -> None:
    """Take one cut back."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, recipe = scan_row(session, job_id, scan_id)
        if number >= len(recipe.cuts):
            raise InputError("That cut is not there any more.", "Nothing was changed.", "Look at the scan again.")
        left = [each.model_dump(mode="json") for k, each in enumerate(recipe.cuts) if k != number]
        changed(scan, cuts=left)
        record(session, actor, job_id, "take a cut back", row=scan_id, cut=recipe.cuts[number].name)
        tell(session, job_id, "sheet", row=scan_id)


def only_edges(actor: Actor, job_id: int, scan_id: int, only: bool) -> None:
    """Whether what is flat is left out; nothing that was read is lost."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, recipe = scan_row(session, job_id, scan_id)
        changed(scan, edges_only=only)
        record(session, actor, job_id, "only edges", row=scan_id, only=only, before=recipe.edges_only)
        tell(session, job_id, "sheet", row=scan_id)


def planes_of(state: JobResults) -> list[tuple[int, str]]:
    """Rows by whose planes may be cut."""
    found = ((r.id, r.recipe.name, state.results[r.id].feature) for r in state.rows)
    return [(i, name) for i, name, feature in found if feature is not None and isinstance(feature.shape, Plane)]


def points_of(state: JobResults, scan_id: int, row: SheetRow) -> int:
    """How many points of a scan are a row's."""
    feature, of_scan = state.results[row.id].feature, key_prefix(scan_id)
    return 0 if feature is None else sum(key.startswith(of_scan) for key in feature.counted)


def progress_of(session: Session, scan_id: int) -> float | None:
    """How far (0 to 1) what a scan waits for is; None where it does not wait."""
    making = Cloud.row_id == scan_id, Cloud.state == "making"
    return session.scalar(select(Cloud.share).where(*making).order_by(Cloud.id.desc()).limit(1))


def drawn_of(session: Session, state: JobResults, scan_id: int) -> NDArray[np.float32]:
    """(d, 5) of a scan's thinned copy, see ``CloudPoints.drawn``; in the part where it is aligned, else the world."""
    return _shown(session, state, scan_id).drawn(state.drawn_from_world)


def live_of(session: Session, state: JobResults, scan_id: int, after: int) -> tuple[NDArray[np.float32], int]:
    """(d, 5) of what was scanned since a reading, thinned, as ``drawn_of`` tells it; and the last reading in it."""
    found, last = [NOTHING], after
    for reading_id, light in light_since(session, state, scan_id, after):
        last = reading_id
        if light is not None:
            found.append(CloudPoints.bare(light.points, light.lines, light.brightness).drawn(state.drawn_from_world))
    return np.vstack(found), last


def light_since(session: Session, state: JobResults, scan_id: int, after: int) -> Iterator[tuple[int, Seen | None]]:
    """The light that came since a reading, thinned, reading by reading; None of one whose station is not tied yet.

    What was taken back is not among it, and it ends before what was read with something that ``state``, a moment old, does not
    know yet. Raises InputError for a row of another job.
    """
    state.row(scan_id)
    gone = select(Mark.reading_id).where(Mark.reading_id == Reading.id, Mark.hit.is_(None), Mark.lifted_at.is_(None))
    new = Reading.row_id == scan_id, Reading.id > after, Reading.points != b"", ~gone.exists()
    for reading in session.scalars(select(Reading).where(*new).order_by(Reading.id).limit(LIVE_CHUNKS)):
        if reading.calibration_id not in state.kit.calibrations or reading.station_id not in state.stations:
            return
        calibration = state.kit.calibrations[reading.calibration_id]
        station = state.stations.get(reading.station_id or 0)
        if calibration.light is None or not isinstance(station, StationPose):
            yield reading.id, None
            continue
        counts = tuple(reading.counts)
        chunk = Chunk(np.reshape(reading.poses, (-1, 7)), reading.points, counts, np.zeros(len(counts), bool), 0, 0)
        light = seen(chunk, calibration.light.axis_from_scanner, station.world_from_station)
        yield reading.id, light.of(np.arange(0, len(light), LIVE_EVERY))


def _shown(session: Session, state: JobResults, scan_id: int) -> CloudPoints:
    """The thinned copy in the world: of what it is worked out to now, or was last; none where nothing is."""
    found = state.results[scan_id].cloud if scan_id in state.results else None
    if found is None or len(found.shown):
        return CloudPoints.none() if found is None else found.shown
    query = (
        select(Cloud)
        .where(Cloud.row_id == scan_id, Cloud.what == "points", Cloud.state == "ready")
        .order_by(Cloud.id.desc())
        .limit(1)
    )
    cloud = session.scalar(query.options(undefer(Cloud.given)))
    return CloudPoints.none() if cloud is None or cloud.given is None else unpacked(cloud.key, cloud.given).shown
