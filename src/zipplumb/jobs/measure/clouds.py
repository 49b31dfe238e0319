"""Scans as a person has them: cut, given to rows, and drawn from a thinned copy."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Protocol, cast

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session, undefer

from ...cad.near import FacesNear
from ...core.cloud.cutting import left_by
from ...core.cloud.faces import facing, flattest
from ...core.cloud.giving import evenly
from ...core.cloud.light import Chunk, Seen, seen
from ...core.cloud.points import CloudPoints
from ...core.errors import InputError
from ...core.frames import Array
from ...core.shapes import Plane
from ...core.sheet import Needed, SheetRow, StationPose, kind_of
from ...core.sheet.bases.measured import MeasuredRecipe
from ...core.sheet.clouds import FoundCloud, key_prefix
from ...core.sheet.kinds.scan import Cut, OffCad, Region, ScanRecipe, Side
from ...core.stripes import NUMBERS
from ...core.units import length_text
from ...store.database import stored, tell, transaction
from ...store.models import Job, Mark, Reading, Row
from ...store.scans import Cloud
from ..actor import Actor, record
from ..state.clouds import unpacked
from ..state.part_model import model_of
from ..state.recipes import changed, recipe_of
from ..state.results import JobResults, load

MOST_CUTS, FARTHEST_MM, LOOKED_AT = 20, 100.0, 50_000
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
        scan, _ = scan_row(session, job_id, scan_id)
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
        _give(session, actor, job, scan, wanted)
        return len(wanted)


def give_to_open(session: Session, actor: Actor, state: JobResults, scan: Row) -> None:
    """What a scan does by itself when it is finished: rows that are not, and could, take their points from it. Nothing where
    the part is not aligned, or its alignment rests on this scan."""
    job = stored(session, Job, scan.job_id)
    able = [row_id for row_id in may_take(state) if not state.row(row_id).finished]
    if state.alignment is not None and able and scan.id not in _rests_on(state, job.alignment_row_id):
        _give(session, actor, job, scan, able)


def _give(session: Session, actor: Actor, job: Job, scan: Row, wanted: list[int]) -> None:
    before = scan.recipe["system"]
    changed(scan, system=job.alignment_row_id)
    for row_id in wanted:
        row = stored(session, Row, row_id)
        scans = tuple(recipe_of(row).scans)  # type: ignore[attr-defined]
        if scan.id not in scans:
            changed(row, scans=[*scans, scan.id])
        if row.finished_at is None:
            row.finished_at = scan.finished_at
    record(session, actor, job.id, "give points", row=scan.id, rows=wanted, system=job.alignment_row_id, before=before)
    tell(session, job.id, "sheet", row=scan.id)


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


class TypedCut(Protocol):
    """A cut as chosen on the page."""

    def made(self, state: JobResults, scan_id: int) -> Cut:
        """Raises InputError where it makes no sense."""
        ...


@dataclass(frozen=True)
class ByPlane:
    """A plane of the sheet (None: the scan's own flattest), how far out of it, and whether what lies under it goes, or what
    lies above."""

    row_id: int | None
    offset_mm: float
    above: bool = False

    def made(self, state: JobResults, scan_id: int) -> Cut:
        plane, called = plane_of(state, scan_id, self.row_id)
        point = plane.point + self.offset_mm * plane.normal
        normal = -plane.normal if self.above else plane.normal
        side = "above" if self.above else "under"
        units = state.job.units
        way = "out" if self.offset_mm > 0 else "in"
        out = f", {length_text(abs(self.offset_mm), units)} {units} {way}" if self.offset_mm else ""
        return Region(sides=(Side(point=tuple(point), normal=tuple(normal)),), name=f"{side} {called}{out}"[:80])


@dataclass(frozen=True)
class ByRectangle:
    """A rectangle drawn on the stage, as planes as things are drawn there: points and outward normals (k, 2, 3); ``keeps``: all
    but what lies in it goes."""

    sides: Array
    keeps: bool

    def made(self, state: JobResults, scan_id: int) -> Cut:
        lengths = np.linalg.norm(self.sides[:, 1], axis=1)
        if not (np.isfinite(self.sides).all() and (lengths > 1e-9).all()):
            raise InputError("That is no rectangle.", "Nothing was cut away.", "Draw it on the stage.")
        world = state.drawn_from_world.inverse()
        points, normals = world.points(self.sides[:, 0]), world.vectors(self.sides[:, 1] / lengths[:, None])
        sides = tuple(Side(point=tuple(p), normal=tuple(n)) for p, n in zip(points, normals, strict=True))
        return Region(sides=sides, keeps=self.keeps, name="outside a rectangle" if self.keeps else "in a rectangle")


@dataclass(frozen=True)
class ByCad:
    """What lies farther than that off the part's CAD, as it lies now."""

    within_mm: float

    def made(self, state: JobResults, scan_id: int) -> Cut:
        if state.alignment is None or not state.job.part.bodies:
            raise InputError(
                "Nobody knows how far that is: the part is not aligned to CAD.", "Nothing was cut away.", "Align it first."
            )
        if not 0 < self.within_mm <= FARTHEST_MM:
            most = length_text(FARTHEST_MM, state.job.units)
            raise InputError("So near, or so far, nothing is cut.", "Nothing was cut away.", f"Type more than 0, up to {most}.")
        here, by = state.alignment.part_from_world, state.row(state.job.alignment_row_id or 0).recipe.name
        far = f"{length_text(self.within_mm, state.job.units)} {state.job.units}"
        turn, shift = here.rotvec, here.translation
        name = f"farther than {far} off the CAD, by {by}"[:80]
        return OffCad(within_mm=self.within_mm, turn=tuple(turn), shift=tuple(shift), name=name)


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


def would_cut(session: Session, state: JobResults, scan_id: int, typed: TypedCut) -> float | None:
    """The share of what is drawn of a scan that a cut would take away; None where nothing is drawn yet."""
    cut, points = typed.made(state, scan_id), _shown(session, state, scan_id).points
    if not len(points):
        return None
    points, model = points[evenly(np.arange(len(points)), LOOKED_AT)], model_of(state.job.part) if cut.on_cad else None
    left = left_by(points, [cut], None if model is None else FacesNear(model, frozenset()).off)
    return 1 - float(np.count_nonzero(left)) / len(points)


def cut_away(actor: Actor, job_id: int, scan_id: int, typed: TypedCut) -> None:
    """Cut away; nothing that was read is lost."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, recipe = scan_row(session, job_id, scan_id)
        if len(recipe.cuts) == MOST_CUTS:
            raise InputError(f"It is cut {MOST_CUTS} times.", "Nothing was cut away.", "Take a cut back first.")
        cut = typed.made(load(session, job_id), scan_id)
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


def progress_of(session: Session, job_id: int, row_id: int) -> float | None:
    """How far (0 to 1) what a scan or a map waits for is; None where it does not wait."""
    making = Cloud.job_id == job_id, Cloud.row_id == row_id, Cloud.state == "making"
    return session.scalar(select(Cloud.share).where(*making).order_by(Cloud.id.desc()).limit(1))


def drawn_of(session: Session, state: JobResults, scan_id: int) -> NDArray[np.float32]:
    """(d, 5) of a scan's thinned copy, see ``CloudPoints.drawn``; in the part where it is aligned, else the world."""
    return _shown(session, state, scan_id).drawn(state.drawn_from_world)


def live_of(session: Session, state: JobResults, scan_id: int, after: int) -> tuple[NDArray[np.float32], int]:
    """(d, 5) of what was scanned since a reading, thinned, as ``drawn_of`` tells it; and the last reading in it."""
    found, last = [NOTHING], after
    for reading_id, _, light in islice(light_since(session, state, scan_id, after), LIVE_CHUNKS):
        last = reading_id
        if light is not None:
            found.append(CloudPoints.bare(light.points, light.lines, light.brightness).drawn(state.drawn_from_world))
    return np.vstack(found), last


def light_since(session: Session, state: JobResults, scan_id: int, after: int) -> Iterator[tuple[int, int, Seen | None]]:
    """The light that came since a reading, thinned, reading by reading, with the press of its pass.

    None of a reading whose station is not tied yet. What was taken back is not among it, and it ends before what was read with
    something that ``state``, a moment old, does not know yet. Raises InputError for a row of another job.
    """
    state.row(scan_id)
    gone = select(Mark.reading_id).where(Mark.reading_id == Reading.id, Mark.hit.is_(None), Mark.lifted_at.is_(None))
    new = Reading.row_id == scan_id, Reading.id > after, Reading.points != b"", ~gone.exists()
    for reading in session.scalars(select(Reading).where(*new).order_by(Reading.id).execution_options(yield_per=LIVE_CHUNKS)):
        if reading.calibration_id not in state.kit.calibrations or reading.station_id not in state.stations:
            return
        calibration = state.kit.calibrations[reading.calibration_id]
        station = state.stations.get(reading.station_id or 0)
        if calibration.light is None or not isinstance(station, StationPose):
            yield reading.id, reading.sweep, None
            continue
        counts = tuple(reading.counts)
        poses, none = np.reshape(reading.poses, (-1, 7)), np.zeros(len(counts), bool)
        chunk = Chunk(poses, reading.points, counts, none, 0, 0, fields=NUMBERS[reading.kind])
        light = seen(chunk, calibration.light.axis_from_scanner, station.world_from_station)
        yield reading.id, reading.sweep, light.of(np.arange(0, len(light), LIVE_EVERY))


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
    return CloudPoints.none() if cloud is None or cloud.given is None else unpacked(cloud.what, cloud.key, cloud.given).shown
