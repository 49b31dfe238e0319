"""The demo's scanned job: the bracket as the stand-in's scanner saw it, laid on its CAD, and measured of its scan."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation
from sqlalchemy import select

from ..core.frames import Array, Motion
from ..core.stripes import Packed, packed
from ..devices.hits import UNSEEN, HitBatch
from ..devices.sim.arm import MESHES
from ..devices.sim.light import LineScanner, Lit
from ..devices.sim.stand import Stand
from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.align import laid, systems
from ..jobs.kit import stations
from ..jobs.link import presses
from ..jobs.measure import cloud_work, clouds, maps, surfaces
from ..jobs.plan import picking, sheet
from ..jobs.state.results import JobResults, load
from ..store.database import stored, transaction
from ..store.models import Calibration, Instrument, Job, Part, Probe
from ..store.scans import Cloud
from . import bracket
from .carrier_real import PLACE
from .seed import PASSWORD, PEOPLE

JOB = "Bracket, scanned"
AXIS_FROM_SCANNER = Motion(np.eye(3), np.array([0.4, 60.7, 96.3]))  # as it was calibrated
RMS_MM, U_MM = 0.021, 0.004
AWAY_MM, APART_MM, LINES_MM, A_SECOND = 110.0, 55.0, 2.5, 100.0
ROUGH = Motion(Rotation.from_rotvec([0.004, -0.003, 0.006]).as_matrix(), np.array([1.5, -1.0, 0.8]))  # as three pairs lay it
LIMIT_MM, PINS, SEEN_WELL = 0.15, 3, 500  # places of a face that is pinned
SEAT = bracket.BALL[1:3]  # X and Y of what is pointed at


def seed_scan(folder: Path, bracket_job: int, arm: int, home: int) -> int:
    """The job; the arm stands at ``home`` again afterwards. Returns its id."""
    with transaction() as session:
        found = session.scalar(select(Job.id).where(Job.name == JOB))
        part_id = stored(session, Job, bracket_job).part_id
        sha256 = stored(session, Part, part_id).sha256
    if found:
        return found
    actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
    job = sheet.create_job(actor, JOB, part_id)
    stations.bring(actor, job, arm)
    ball = _scanner_on(arm)
    try:
        with np.load(folder / MESHES) as meshes:
            _scan(arm, np.asarray(meshes[sha256], float))
        _measured(actor, job)
    finally:
        with transaction() as session:
            stored(session, Instrument, arm).calibration_id = ball
        stations.bring(actor, home, arm, unmoved=True)
    return job


def _scanner_on(arm: int) -> int | None:
    """The scanner, calibrated and put on. Returns the calibration that was on before."""
    with transaction() as session:
        probe = session.scalars(select(Probe).where(Probe.kind == "scanner")).one()
        calibration = Calibration(
            probe_id=probe.id, instrument_id=arm, offset_mm=AXIS_FROM_SCANNER.translation.tolist(), diameter_mm=0.0,
            rms_mm=RMS_MM, largest_mm=2.8 * RMS_MM, u_radius_mm=U_MM, u_offset_mm=U_MM, method="scanner", temperature_c=20.5,
            note="On the 25.4 mm sphere, 9 passes", detail={"axis_from_scanner": AXIS_FROM_SCANNER.as_list()},
        )  # fmt: skip
        session.add(calibration)
        session.flush()
        instrument = stored(session, Instrument, arm)
        before, instrument.calibration_id = instrument.calibration_id, calibration.id
        return before


def _scan(arm: int, mesh: Array) -> None:
    """Passes over the part, line after line, then the finish."""
    world_from_part = Motion.from_quaternion(PLACE["quaternion"], PLACE["translation_mm"])
    lit, scanner, random = Lit.of(mesh, Stand(world_from_part), None), LineScanner(), np.random.default_rng(12)
    lines: list[Packed] = []
    poses: list[list[float]] = []
    sent = 0
    for world_from_scanner in _passes(world_from_part):
        line = scanner.line(lit, world_from_scanner, random)
        if not len(line):
            continue
        axis = world_from_scanner @ AXIS_FROM_SCANNER.inverse()
        quaternion = Rotation.from_matrix(axis.rotation).as_quat(scalar_first=True)
        lines.append(line)
        poses.append([*axis.translation.tolist(), *quaternion.tolist()])
        if len(lines) == int(A_SECOND):
            _keep(arm, lines, poses, sent)
            sent, lines, poses = sent + len(lines), [], []
    _keep(arm, lines, poses, sent)
    end = sent + len(lines)
    presses.finish(arm, HitBatch("pull_off", JOB, end, (end,), (end / A_SECOND,), tuple(poses[-1]), UNSEEN), end)


def _passes(world_from_part: Motion) -> Iterator[Motion]:
    """Where the scanner is, line after line: over the top, and over the front and the left, leaning back from above."""
    long, wide, thick = bracket.LENGTH / 2, bracket.WIDTH / 2, bracket.THICK
    faces = (
        ((0, 0, thick), (0, 0, 1), (long + 15, wide + 15)), ((0, -wide, thick / 2), (0.1, -1, 0.6), (long + 15, 50)),
        ((-long, 0, thick / 2), (-1, 0.1, 0.6), (wide + 15, 50)),
        *(((*bracket.BOSS[1:3], thick + 10), (x, y, 1.2), (25, 40)) for x, y in ((1, 0.1), (-1, 0.1), (0.1, -1), (0.1, 1))),
    )  # fmt: skip
    for middle, back, (far, near) in faces:
        away = np.array(back) / np.linalg.norm(back)
        across = np.cross([0, 0, 1.0], away) if abs(away[2]) < 0.99 else np.array([1.0, 0, 0])
        across = across / np.linalg.norm(across)
        along = np.cross(-away, across)
        for u in np.arange(-far, far + APART_MM, APART_MM):
            for v in np.arange(-near, near, LINES_MM):
                at = np.array(middle) + u * across + v * along + AWAY_MM * away
                yield world_from_part @ Motion(np.column_stack([across, along, -away]), at)


def _keep(arm: int, lines: list[Packed], poses: list[list[float]], sent: int) -> None:
    if not lines:
        return
    data, counts = packed(lines)
    numbers = tuple(range(sent, sent + len(lines)))
    times = tuple(number / A_SECOND for number in numbers)
    flat = tuple(value for pose in poses for value in pose)
    batch = HitBatch("stripes", JOB, 0, numbers, times, flat, UNSEEN * len(lines), points=data, counts=counts)
    presses.keep(arm, batch, None if sent else 0)


def _measured(actor: Actor, job: int) -> None:
    """Laid on the CAD, given to planned faces, aligned to their datums, and one surface pointed at."""
    state = _worked_out(job)
    scan = next(row.id for row in state.rows if row.recipe.takes_light)
    start = ROUGH @ Motion.from_quaternion(PLACE["quaternion"], PLACE["translation_mm"]).inverse()
    laid.plan(actor, job, state, [scan], start)
    with transaction() as session:
        faces = stored(session, Part, stored(session, Job, job).part_id).faces
    for name, normal, height, letter in (
        ("Top", (0, 0, 1), bracket.THICK, "A"), ("Side", (0, -1, 0), bracket.WIDTH / 2, "B"),
        ("End", (-1, 0, 0), bracket.LENGTH / 2, "C"),
    ):  # fmt: skip
        flat = (f for f in faces if f["surface"] == "plane" and np.allclose(f["nominal"]["normal"], normal))
        face = next(f for f in flat if abs(np.dot(f["nominal"]["point"], normal) - height) < 1e-6)
        sheet.edit_row(actor, job, picking.plan_from_face(actor, job, face["index"]), {"name": name, "datum": letter})
    boss = next(f for f in faces if f["surface"] == "cylinder" and abs(2 * f["nominal"]["radius"] - bracket.BOSS[0]) < 1e-6)
    row = picking.plan_from_face(actor, job, boss["index"])
    sheet.edit_row(actor, job, row, {"name": "Boss"})
    sheet.set_limits(actor, job, row, "-0.05", "0", "diameter")
    clouds.give(actor, job, scan, [])
    state = _worked_out(job)
    place = np.array([*SEAT, bracket.THICK + bracket.BALL_ABOVE - bracket.BALL[0] / 2])
    found = surfaces.find(state, scan, place)
    if any(each.kind == "sphere" for each in found.each):
        surfaces.plan(actor, job, scan, place, "sphere", found.seen, "Ball seat")
    systems.activate(actor, job, systems.plan_lettered(actor, job))
    _mapped(actor, job, scan)


def _mapped(actor: Actor, job: int, scan: int) -> None:
    """The whole surface judged, and pinned where some faces are worst."""
    row = maps.plan(actor, job, scan, 1.0, maps.TypedLimits(-LIMIT_MM, LIMIT_MM))
    for _ in range(2):  # the map waits for the scan, as it is now
        state = _worked_out(job)
    judged = maps.map_of(state, row)
    places, worst = judged.found.places, judged.worst_of_faces()
    much = [k for face, k in worst.items() if judged.of_faces[face].places > SEEN_WELL]
    for k in sorted(much, key=lambda k: -abs(places.means[k]))[:PINS]:
        maps.pin(actor, job, row, places.points[k])


def _worked_out(job: int) -> JobResults:
    """What a worker would work out."""
    with transaction() as session:
        load(session, job)
    with transaction() as session:
        asked = session.scalars(select(Cloud.id).where(Cloud.job_id == job, Cloud.state == "making")).all()
    for cloud_id in asked:
        cloud_work.work_out(cloud_id)
    with transaction() as session:
        return load(session, job)
