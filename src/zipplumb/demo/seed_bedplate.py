"""The demo's third job: the bedplate, aligned by its reference points, on which three details are placed."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select

from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.kit import stations
from ..jobs.place import details, placement
from ..jobs.plan import adding, listing, parts, sheet
from ..store.database import stored, transaction
from ..store.models import Job
from . import bedplate
from .bedplate_real import SHOP_C, STEEL
from .seed import PASSWORD, PEOPLE

JOB = "Bedplate, carriers to place"
WORDS = {
    "zone": "0.05",
    "+Z": "up",
    "-Z": "down",
    "+X": "forward",
    "-X": "aft",
    "+Y": "away from the rail",
    "-Y": "toward the rail",
}


def seed_bedplate(step: Path, tracker: int) -> int:
    """The job, planned and not yet measured. Returns its id."""
    with transaction() as session:
        found = session.scalar(select(Job.id).where(Job.name == JOB))
    if found:
        return found
    actor = technician()
    with step.open("rb") as file:
        part_id = parts.add_part(actor, "Bedplate", step.name, file)
    parts.import_part(part_id)
    job = sheet.create_job(actor, JOB, part_id)
    rows = listing.plan_list(actor, job, _list({f"R{k}": at for k, at in enumerate(bedplate.REFERENCES, 1)}), "mm")
    scale = {"material": STEEL, "temperature_c": SHOP_C}
    raw = {"kind": "reference_points", "name": "References at 20 °C", "points": rows, "scale": scale}
    with transaction() as session:
        stored(session, Job, job).alignment_row_id = adding.add_row(session, actor, job, raw)
        bodies = {body["name"]: body["index"] for body in stored(session, Job, job).part.bodies}
    placement.set_placing(actor, job, WORDS)
    for detail in bedplate.MOVABLE:
        targets = listing.plan_list(actor, job, _list(detail.targets), "mm")
        lines = [f"{n}; {x}; {y}; {z}; {up}; {pitch}; 6; 6; ; right" for n, (x, y, z), up, pitch in detail.adjusters]
        details.add(actor, job, detail.name, targets, "\n".join(lines), body=bodies.get(detail.name))
    stations.bring(actor, job, tracker)
    return job


def technician() -> Actor:
    return Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")


def _list(places: dict[str, tuple[float, float, float]]) -> str:
    return "\n".join(f"{name}; {x}; {y}; {z}" for name, (x, y, z) in places.items())
