"""The demo's job for the radar: the bedplate's fairing flange, which is a free surface, judged in three datums."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select

from ..jobs.actor import Actor
from ..jobs.kit import stations
from ..jobs.plan import adding, picking, sections, sheet
from ..store.database import stored, transaction
from ..store.models import Job
from . import bedplate
from .bedplate_real import SHOP_C, STEEL
from .seed_bedplate import technician

JOB = "Fairing flange check"
HITS = 400


def seed_fairing(bedplate_job: int, radar: int) -> int:
    """The job, on the part of the other one, planned and not yet measured. Returns its id."""
    with transaction() as session:
        if found := session.scalar(select(Job.id).where(Job.name == JOB)):
            return found
        part = stored(session, Job, bedplate_job).part
        part_id, faces = part.id, part.faces
    actor = technician()
    job = sheet.create_job(actor, JOB, part_id)
    top = _plan(actor, job, max(_flat(faces, 2, bedplate.HIGH), key=lambda face: face["area_mm2"]), "Top", 54, "A")
    side = _plan(actor, job, _flat(faces, 1, bedplate.WIDTH / 2)[0], "Long side", 54, "B")
    end = _plan(actor, job, _flat(faces, 0, bedplate.STOP[0] - bedplate.LENGTH / 2)[0], "End stop", 54, "C")
    datums = [{"features": [row]} for row in (top, side, end)]
    warm = {"material": STEEL, "temperature_c": SHOP_C}
    with transaction() as session:
        raw = {"kind": "datum_features", "name": "Top, side, stop", "datums": datums, "warm": warm}
        stored(session, Job, job).alignment_row_id = adding.add_row(session, actor, job, raw)
    free = next(face for face in faces if face["surface"] == "free surface")
    flange = _plan(actor, job, free, "Fairing flange", HITS)
    sheet.set_limits(actor, job, flange, "", "0.5", "profile")
    middle = float(np.mean(bedplate.FLANGE_Z))
    (line,) = sections.plan_sections(actor, job, sections.SectionAsked((free["index"],), np.array([0.0, 0, 1]), middle, 50.0))
    sheet.edit_row(actor, job, line, {"name": "Along the flange"})
    sheet.set_limits(actor, job, line, "", "0.5", "profile")
    stations.bring(actor, job, radar)
    return job


def _flat(faces: list[dict[str, Any]], axis: int, height: float) -> list[dict[str, Any]]:
    """The planes that face along +X, +Y or +Z at a height of it, in the order of their places."""
    planes = (face for face in faces if face["surface"] == "plane")
    there = [
        face for face in planes
        if face["nominal"]["normal"][axis] > 1 - 1e-9 and abs(face["nominal"]["point"][axis] - height) < 1e-6
    ]  # fmt: skip
    return sorted(there, key=lambda face: face["box"][:2])


def _plan(actor: Actor, job: int, face: dict[str, Any], name: str, hits: int, datum: str = "") -> int:
    row = picking.plan_from_face(actor, job, face["index"])
    sheet.edit_row(actor, job, row, {"name": name, "hits": str(hits)} | ({"datum": datum} if datum else {}))
    return row
