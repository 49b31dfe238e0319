"""The demo's finished job: the carrier inspected all over, with pictures and a report."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from sqlalchemy import select

from ..cad import CadModel
from ..core.pictures.camera import Camera
from ..devices.sim.real_part import RealFace
from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.kit import stations
from ..jobs.plan import adding, sheet
from ..jobs.report import documents, making, pictures
from ..store.database import stored, transaction
from ..store.models import Job, Part
from .by_hand import real_faces, some_of, touch_all
from .seed import PASSWORD, PEOPLE, plan_carrier

JOB = "Carrier, inspected"
POINTS, LIMIT_MM = 60, 0.05  # of surfaces
EYE = (-0.62, -1.0, 0.62)
LAYOUT = (
    {"kind": "heading", "lines": [["Order", "MT-2207"], ["Part", "Bearing carrier 118-04"], ["Drawing", "MT-118-04 C"]]},
    {"kind": "summary"}, {"kind": "pictures"}, {"kind": "rows", "order": "result"}, {"kind": "about"}, {"kind": "signatures"},
)  # fmt: skip


def seed_inspected(
    folder: Path, carrier_job: int, arm: int, home: int | None, name: str = JOB, points: int = POINTS
) -> int:  # fmt: skip
    """The job, of so many points or a few more; the arm stands at ``home`` afterwards. Returns its id."""
    with transaction() as session:
        found = session.scalar(select(Job.id).where(Job.name == name))
        part_id = stored(session, Job, carrier_job).part_id
        model = CadModel.unpack(stored(session, Part, part_id).model or b"")
    if found:
        return found
    actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
    faces = real_faces(folder)
    job = sheet.create_job(actor, name, part_id)
    plan_carrier(actor, job, model)
    _plan_points(actor, job, faces, points)
    stations.bring(actor, job, arm)
    touch_all(actor, job, arm, faces)
    if home is not None:
        stations.bring(actor, home, arm, unmoved=True)
    _report(actor, job, points)
    return job


def _plan_points(actor: Actor, job: int, faces: dict[int, RealFace], count: int) -> None:
    """Places all over what lies open, named in order."""
    open_faces = [face for face in faces.values() if face.room_mm > 1e3 and face.axis[2] > -0.5 and len(face.spots)]
    each = -(-count // len(open_faces))
    places = [(face.spots[k], face.outward[k]) for face in open_faces for k in some_of(len(face.spots), each)]
    limits = [{"key": "off", "lower": -LIMIT_MM, "upper": LIMIT_MM}]
    with transaction() as session:
        raws = [
            adding.surface_point(place.round(3).tolist(), out.round(6).tolist(), name=f"S{k}", asked=limits)
            for k, (place, out) in enumerate(places, start=1)
        ]
        adding.add_rows(session, actor, job, adding.named(session, job, raws))


def _report(actor: Actor, job: int, points: int) -> None:
    """Pictures with tags, and a report put together of its parts."""
    with transaction() as session:
        model = CadModel.unpack(stored(session, Part, stored(session, Job, job).part_id).model or b"")
    shape = 1.6
    camera = Camera.on(np.array(EYE), model.positions.astype(float), shape)
    view = {"camera": camera.data(), "shape": shape}
    tags = {"first": "S1", "last": f"S{points}", "shows": ["name"]}
    pictures.keep(actor, job, view | {"tags": tags}, "Surface points that are seen from here")
    pictures.keep_all_round(actor, job, view | {"tags": tags | {"word": "out", "shows": ["name", "limits"]}}, "Out")
    made = documents.begin(actor, job, "Inspection", parts=[dict(part) for part in LAYOUT])
    making.ask_report(actor, job, "pdf", (), made)
