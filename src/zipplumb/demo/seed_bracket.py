"""The demo's second job: the sensor bracket, a row of every kind planned from its CAD."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from ..jobs import people
from ..jobs.actor import Actor
from ..jobs.align import systems
from ..jobs.plan import parts, picking, sections, sheet
from ..store.database import stored, transaction
from ..store.models import Job, Part
from . import bracket
from .seed import PASSWORD, PEOPLE

JOB = "Bracket, every kind"
TARGETS = ((215.0, 30.0), (215.0, 90.0), (240.0, 60.0))  # about where the datum targets of the sheet lie, X and Y
Found = dict[str, Any]


def seed_bracket(step: Path) -> int:
    """The job, planned and not yet measured. Returns its id."""
    with transaction() as session:
        found = session.scalar(select(Job.id).where(Job.name == JOB))
    if found:
        return found
    actor = Actor(people.add_person(*PEOPLE[0], PASSWORD), PEOPLE[0][1], "technician")
    with step.open("rb") as file:
        part_id = parts.add_part(actor, "Sensor bracket", step.name, file)
    parts.import_part(part_id)
    with transaction() as session:
        part = stored(session, Part, part_id)
        faces, edges = part.faces, part.edges
    job = sheet.create_job(actor, JOB, part_id)
    _Planner(actor, job, faces, edges).plan()
    return job


class _Planner:
    def __init__(self, actor: Actor, job: int, faces: list[Found], edges: list[Found]):
        self.actor, self.job, self.faces, self.edges = actor, job, faces, edges

    def plan(self) -> None:
        top = self.flat((0, 0, 1), bracket.THICK)
        self.face("Top", top, hits="6", datum="A")
        self.face("Side", self.flat((0, -1, 0), bracket.WIDTH / 2), hits="4", datum="B")
        self.face("End", self.flat((-1, 0, 0), bracket.LENGTH / 2), hits="3", datum="C")
        systems.plan_lettered(self.actor, self.job)
        self.face("Bore", self.round(*bracket.BORE), limits=("diameter", "0", "0.033"))
        self.face("Boss", self.round(*bracket.BOSS), limits=("diameter", "-0.05", "0"))
        for name, shape, hits in (("Cone seat", "cone", "12"), ("Ball seat", "sphere", "12"), ("Groove", "torus", "18")):
            self.face(name, next(f for f in self.faces if f["surface"] == shape), hits=hits)
        self.edge("Bore rim", top, lambda n: n["shape"] == "circle" and abs(2 * n["radius"] - bracket.BORE[0]) < 1e-6)
        self.edge("Round slot", top, lambda n: n["shape"] == "slot" and n["ends"] == "round")
        self.edge("Square slot", top, lambda n: n["shape"] == "slot" and n["ends"] == "square")
        self.edge("Opening", top, lambda n: n["shape"] == "ellipse")
        self.edge("Cradle", top, lambda n: n["shape"] == "arc" and abs(n["radius"] - bracket.CRADLE_RADIUS) < 1e-6)
        front = self.edge("Front edge", top, self._is_front)
        nominal = next(e["nominal"] for e in self.edges if e["index"] == front)
        picking.plan_edge_point(self.actor, self.job, front, nominal["point"], "Lip")
        bolt = self.round(bracket.BOLT, bracket.CIRCLE[1] + bracket.CIRCLE[0] / 2, bracket.CIRCLE[2])
        picking.plan_alike(self.actor, self.job, bolt["index"], "Bolt hole")
        self.sheet_targets()
        self.wave()

    def flat(self, normal: tuple[float, ...], height: float) -> Found:
        planes = (f for f in self.faces if f["surface"] == "plane" and np.allclose(f["nominal"]["normal"], normal))
        return next(f for f in planes if abs(np.dot(f["nominal"]["point"], normal) - height) < 1e-6)

    def round(self, diameter: float, x: float, y: float) -> Found:
        upright = (f for f in self.faces if f["surface"] == "cylinder" and abs(2 * f["nominal"]["radius"] - diameter) < 1e-6)
        return next(f for f in upright if np.hypot(f["nominal"]["point"][0] - x, f["nominal"]["point"][1] - y) < 1e-6)

    def _is_front(self, nominal: Found) -> bool:
        along_x = nominal["shape"] == "line" and abs(nominal["direction"][0]) > 1 - 1e-9
        return along_x and abs(nominal["point"][1] + bracket.WIDTH / 2) < 1e-6

    def face(self, name: str, face: Found, limits: tuple[str, str, str] | None = None, **typed: str) -> None:
        row = picking.plan_from_face(self.actor, self.job, face["index"])
        sheet.edit_row(self.actor, self.job, row, {"name": name, **typed})
        if limits is not None:
            sheet.set_limits(self.actor, self.job, row, limits[1], limits[2], limits[0])

    def edge(self, name: str, face: Found, fits: Callable[[Found], bool]) -> int:
        """Plan the first edge of a face that fits. Returns its number."""
        found = next(e["index"] for e in self.edges if e["face"] == face["index"] and e["nominal"] and fits(e["nominal"]))
        row = picking.plan_from_edge(self.actor, self.job, found)
        sheet.edit_row(self.actor, self.job, row, {"name": name})
        return found

    def sheet_targets(self) -> None:
        """Three on the bent sheet, which is square to nothing: three hits each."""
        leaning = (f for f in self.faces if f["surface"] == "plane" and 0.3 < f["nominal"]["normal"][2] < 0.95)
        face = max(leaning, key=lambda f: f["area_mm2"])
        normal, point = np.array(face["nominal"]["normal"]), np.array(face["nominal"]["point"])
        for x, y in TARGETS:
            z = point[2] - (normal[0] * (x - point[0]) + normal[1] * (y - point[1])) / normal[2]
            picking.plan_place(self.actor, self.job, face["index"], [x, y, float(z)], normal.tolist(), "D", 3)

    def wave(self) -> None:
        """A section half way up the wavy edge."""
        wavy = next(f for f in self.faces if f["surface"] == "free surface" and f["box"][4] > bracket.WIDTH / 2 - 1)
        asked = sections.SectionAsked((wavy["index"],), np.array([0.0, 0, 1]), bracket.THICK / 2, 10.0)
        (row,) = sections.plan_sections(self.actor, self.job, asked)
        sheet.edit_row(self.actor, self.job, row, {"name": "Wavy edge"})
        sheet.set_limits(self.actor, self.job, row, "", "0.3", "profile")
