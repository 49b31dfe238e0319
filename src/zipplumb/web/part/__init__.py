"""Part: what should it be?"""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs import parts, sheet
from ...jobs.results import JobResults, load
from ...store.database import transaction
from ..job import done
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("part", __name__, url_prefix="/jobs/<int:job_id>")
AXES = "XYZ"


@dataclass(frozen=True)
class FaceWords:
    """What a picked face is, in words."""

    index: int
    words: str
    place: str
    can_plan: bool
    rows: list


@shows("part")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    return render_template("_part.html", view=view, part=state.job.part, faces=sum(b["faces"] for b in state.job.part.bodies))


def _axis(direction) -> str:
    for k, name in enumerate(AXES):
        if abs(abs(direction[k]) - 1) < 1e-6:
            return ("" if direction[k] > 0 else "−") + name
    return "(" + ", ".join(f"{v:.4f}" for v in direction) + ")"


def describe_face(state: JobResults, index: int) -> FaceWords:
    """A face of the part in words and in the job's units."""
    face, units = state.job.part.faces[index], state.job.units
    nominal = face["nominal"]
    rows = [r for r in state.rows if getattr(r.recipe, "face", None) == index]
    if nominal is None:
        return FaceWords(index, f"A {face['surface']}", "", False, rows)
    at = ", ".join(f"{a} {length_text(v, units)}" for a, v in zip(AXES, nominal["point"], strict=True))
    if nominal["shape"] == "plane":
        return FaceWords(index, f"Plane, facing {_axis(nominal['normal'])}", at, True, rows)
    word = "Bore" if nominal["inside"] else "Boss"
    size = length_text(nominal["diameter_mm"], units)
    return FaceWords(index, f"{word} Ø{size}, axis along {_axis(nominal['direction']).lstrip('−')}", at, True, rows)


@blueprint.get("/faces/<int:index>")
def face(job_id: int, index: int):
    with transaction() as session:
        state = load(session, job_id)
        if index >= len(state.job.part.faces):
            return "", 404
        return render_template("_face.html", face=describe_face(state, index), view=JobView.of(state))


@blueprint.post("/faces/<int:index>/plan")
def plan(job_id: int, index: int):
    sheet.plan_from_face(g.actor, job_id, index)
    return face(job_id, index)


@blueprint.post("/typed")
def typed(job_id: int):
    sheet.plan_typed(g.actor, job_id, request.form.to_dict())
    return done()


@blueprint.post("/bodies")
def bodies(job_id: int):
    parts.choose_bodies(g.actor, job_id, [int(b) for b in request.form.getlist("body") if b.isdigit()])
    return "", 200, {"HX-Refresh": "true"}
