"""The demo's people, kit and job."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select

from ..cad import CadModel
from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.align import systems
from ..jobs.kit import instruments, probes, stations
from ..jobs.kit.instrument_kinds import INSTRUMENT_KINDS
from ..jobs.plan import adding, parts, picking, sheet
from ..store.database import stored, transaction
from ..store.models import Job, Part, Probe
from . import carrier

PASSWORD = "plumb-line"
PEOPLE = (
    ("tamsin", "Tamsin Orrell", "technician"),
    ("rafe", "Rafe Quillon", "reviewer"),
    ("ines", "Ines Hadlow", "administrator"),
)
INSTRUMENTS = {"arm": "Workshop arm", "tracker": "Hall tracker", "radar": "Fairing radar"}
PROBES = (
    {"name": "3 mm long ball", "kind": "ball", "diameter": "3", "diameter_unit": "mm", "length": "236"},
    {
        "name": "Line scanner",
        "kind": "scanner",
        "length": "96",
        "beside": "61",
        "head_nearest_mm": "70",
        "head_farthest_mm": "150",
        "head_width_mm": "70",
        "head_points": "512",
        "head_lines_s": "100",
    },
    {"name": "38.1 mm reflector", "kind": "reflector", "diameter": "1.5", "diameter_unit": "in"},
    {"name": "12.7 mm reflector", "kind": "reflector", "diameter": "0.5", "diameter_unit": "in"},
    {"name": "Radar's beam", "kind": "beam"},
)
OFFSET_MM, DIAMETER_MM = [0.312, -0.204, 186.450], 6.0
NEST_BALL = ("38.1 mm nest ball", [0.088, -0.062, 121.303], 38.1)  # takes a reflector's place in a nest


def seed_people_and_kit(ports: dict[str, int]) -> dict[str, int]:
    """Everybody, the instruments and a few probes; what is there already is only moved. Returns instruments' ids by kind."""
    for login, name, role in PEOPLE:
        people.add_person(login, name, role, PASSWORD)
    specs = {kind: instruments.spec_from_form(kind, {}) for kind in INSTRUMENT_KINDS}
    ids = {
        kind: instruments.add_instrument(
            name, kind, "127.0.0.1", ports[kind], INSTRUMENT_KINDS[kind].u_hit(specs[kind]), specs[kind]
        )
        for kind, name in INSTRUMENTS.items()
    }
    arm = ids["arm"]
    if next(i for i in instruments.instruments() if i.id == arm).calibration_id is None:
        note, earlier = "On the 25.4 mm sphere, 64 hits", ((41, 0.009), (20, 0.012), (6, 0.010))
        instruments.add_calibrated_probe(arm, *NEST_BALL, 0.010, 0.002, note)
        instruments.add_calibrated_probe(arm, "6 mm ruby ball", OFFSET_MM, DIAMETER_MM, 0.011, 0.002, note, earlier)
        actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
        for form in PROBES:
            probes.add_probe(actor, probes.typed_probe(form))
        with transaction() as session:
            known = {name: number for name, number in session.execute(select(Probe.name, Probe.id))}
        probes.put_on(actor, ids["tracker"], known["38.1 mm reflector"])
        probes.put_on(actor, ids["radar"], known["Radar's beam"])
    return ids


def seed_job(step: Path, arm: int) -> int:
    """The job *carrier inspection*, planned and not yet measured. Returns its id."""
    with transaction() as session:
        found = session.scalar(select(Job.id).where(Job.name == "Carrier inspection"))
    if found:
        return found
    actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
    with step.open("rb") as file:
        part_id = parts.add_part(actor, "Bearing carrier", "bearing-carrier.step", file)
    parts.import_part(part_id)
    with transaction() as session:
        part = stored(session, Part, part_id)
        model = CadModel.unpack(part.model or b"")
    job = sheet.create_job(actor, "Carrier inspection", part_id)
    plan_carrier(actor, job, model)
    stations.bring(actor, job, arm)
    return job


def _face(model: CadModel, **wanted) -> int:
    """The face with this nominal: ``normal`` and ``height`` of a plane, or ``diameter`` and ``at`` of a hole."""
    for face in model.faces:
        nominal = face.nominal or {}
        if "height" in wanted and nominal.get("shape") == "plane":
            height = sum(a * b for a, b in zip(nominal["point"], wanted["normal"], strict=True))
            same = all(abs(a - b) < 1e-6 for a, b in zip(nominal["normal"], wanted["normal"], strict=True))
            if same and abs(height - wanted["height"]) < 1e-3:
                return face.index
        if "diameter" in wanted and nominal.get("shape") == "cylinder":
            near = all(abs(a - b) < 1 for a, b in zip(nominal["point"], wanted["at"], strict=True) if b is not None)
            if near and abs(2 * nominal["radius"] - wanted["diameter"]) < 1e-6:
                return face.index
    raise LookupError(f"the carrier has no face {wanted}")


@dataclass(frozen=True)
class Planner:
    """Rows of a job, planned on its part."""

    actor: Actor
    job: int
    model: CadModel

    def face(self, name: str, lower=None, upper=None, hits=None, datum=None, **wanted) -> int:
        """A face by what it is like (see ``_face``), with the limits of what stands on its line. Returns the row."""
        actor, job = self.actor, self.job
        row = picking.plan_from_face(actor, job, _face(self.model, **wanted))
        form = {"name": name}
        if hits:
            form["hits"] = str(hits)
        if datum:
            form["datum"] = datum
        sheet.edit_row(actor, job, row, form)
        if lower is not None:
            sheet.set_limits(actor, job, row, str(lower), str(upper))
        return row


def plan_carrier(actor: Actor, job: int, model: CadModel) -> None:
    """The rows of a carrier's inspection."""
    plan = Planner(actor, job, model).face
    left, front, up = (-1.0, 0.0, 0.0), (0.0, -1.0, 0.0), (0.0, 0.0, 1.0)
    plan("Foot top", hits=9, datum="A", normal=up, height=carrier.FOOT)
    plan("Long side", hits=6, datum="B", normal=front, height=carrier.WIDTH / 2)
    end = plan("Left end", hits=4, datum="C", normal=left, height=carrier.LENGTH / 2)
    systems.plan_lettered(actor, job)
    plan("Bearing bore", 0, 0.040, 15, diameter=carrier.BORE, at=(0, None, None))
    plan("Spigot", -0.046, 0, 12, diameter=carrier.SPIGOT, at=(0, None, None))
    spigot = plan("Spigot face", -0.05, 0.05, 6, normal=front, height=carrier.BODY_WIDTH / 2 + carrier.SPIGOT_OUT)
    rear = plan("Rear face", -0.05, 0.05, 6, normal=(0.0, 1.0, 0.0), height=carrier.BODY_WIDTH / 2)
    right = plan("Right end", -0.2, 0.2, 4, normal=(1.0, 0.0, 0.0), height=carrier.LENGTH / 2)
    for name, x, y in (
        ("Bolt hole 1", -1, -1), ("Bolt hole 2", 1, -1), ("Bolt hole 3", 1, 1), ("Bolt hole 4", -1, 1),
    ):  # fmt: skip
        plan(name, -0.1, 0.1, 8, diameter=carrier.BOLT, at=(x * carrier.BOLT_X, y * carrier.BOLT_Y, None))
    for name, x in (("Dowel hole 1", -1), ("Dowel hole 2", 1)):
        plan(name, 0, 0.018, 8, diameter=carrier.DOWEL, at=(x * carrier.DOWEL_X, carrier.DOWEL_Y, None))
    for name, first, second, half in (("Spigot to rear", spigot, rear, 0.08), ("Over all", end, right, 0.1)):
        raw = {"kind": "dimension", "name": name, "of": [first, second], "measure": "perpendicular_distance"}
        with transaction() as session:
            row = adding.add_row(session, actor, job, raw)
        sheet.set_limits(actor, job, row, str(-half), str(half))
