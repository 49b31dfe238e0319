"""The demo's job of many pieces: carriers of one batch, each measured by the same plan. The tool of the bearing bore wears, and
one piece was clamped badly."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from sqlalchemy import select

from ..cad import CadModel
from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.align import systems
from ..jobs.kit import stations
from ..jobs.outcomes import kept
from ..jobs.pieces import another
from ..jobs.plan import sheet
from ..store.database import stored, transaction
from ..store.models import Job, Part
from . import carrier
from .by_hand import real_faces, touch_all
from .seed import PASSWORD, PEOPLE, Planner

JOB = "Carriers, one batch"
PIECES, ORDER = 26, "Order: MT-2231"
VARIES_MM, WEARS_MM, CLAMPED_MM, BADLY = 0.008, 0.0015, 0.3, 17  # of a surface; a piece; of the right end; of which piece
LIGHT_HITS = 5  # of a row


def seed_series(folder: Path, carrier_job: int, arm: int, home: int | None, count: int = PIECES, name: str = JOB) -> list[int]:
    """So many pieces, measured; the arm stands at ``home`` afterwards. Returns the jobs of all pieces."""
    with transaction() as session:
        found = session.scalars(select(Job.id).where(Job.name == name).order_by(Job.id)).all()
        part_id = stored(session, Job, carrier_job).part_id
        model = CadModel.unpack(stored(session, Part, part_id).model or b"")
    if found:
        return list(found)
    actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
    faces = real_faces(folder)
    pieces = [sheet.create_job(actor, name, part_id)]
    _plan(actor, pieces[0], model)
    another.name_piece(actor, pieces[0], _serial(1), ORDER)
    random = np.random.default_rng(26)
    for number in range(1, count + 1):
        if number > 1:
            pieces.append(another.measure_another(actor, pieces[0], _serial(number), ORDER))
        stations.bring(actor, pieces[-1], arm)
        touch_all(actor, pieces[-1], arm, faces, seed=number, off=_off(random, number), fewest=LIGHT_HITS)
    if home is not None:
        stations.bring(actor, home, arm, unmoved=True)
    for piece in pieces:
        kept.keep_outcome(piece)
    return pieces


def _plan(actor: Actor, job: int, model: CadModel) -> None:
    plan = Planner(actor, job, model)
    left, front, up = (-1.0, 0.0, 0.0), (0.0, -1.0, 0.0), (0.0, 0.0, 1.0)
    plan.face("Foot top", hits=4, datum="A", normal=up, height=carrier.FOOT)
    plan.face("Long side", hits=4, datum="B", normal=front, height=carrier.WIDTH / 2)
    plan.face("Left end", hits=4, datum="C", normal=left, height=carrier.LENGTH / 2)
    systems.plan_lettered(actor, job)
    plan.face("Bearing bore", -0.06, 0.14, 6, diameter=carrier.BORE, at=(0, None, None))
    plan.face("Spigot face", -0.15, 0.15, 4, normal=front, height=carrier.BODY_WIDTH / 2 + carrier.SPIGOT_OUT)
    plan.face("Rear face", -0.15, 0.15, 4, normal=(0.0, 1.0, 0.0), height=carrier.BODY_WIDTH / 2)
    plan.face("Right end", -0.2, 0.2, 4, normal=(1.0, 0.0, 0.0), height=carrier.LENGTH / 2)


def _off(random: np.random.Generator, number: int) -> dict[str, float]:
    """How far surfaces lie out on a piece. A bore that is smaller lies out."""
    off = {each: float(random.normal(0, VARIES_MM)) for each in ("Bearing bore", "Spigot face", "Rear face", "Right end")}
    off["Bearing bore"] += WEARS_MM * (number - PIECES / 2)
    off["Right end"] += CLAMPED_MM if number == BADLY else 0.0
    return off


def _serial(number: int) -> str:
    return f"B-{number:03d}"
