"""Part: what should it be?"""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, g, render_template
from sqlalchemy.orm import Session

from ...core.features import axis_of, plane_of, radius_of, spot_of
from ...core.shape_codec import shape_from_data
from ...core.units import length_text
from ...jobs import parts, sheet
from ...jobs.results import JobResults, load
from ...jobs.words import stem_of
from ...store.database import transaction
from .. import asked
from ..doors import changes, reads
from ..planning import kinds_to_plan
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
    faces = sum(b["faces"] for b in state.job.part.bodies)
    kinds = kinds_to_plan("feature", takes_hits=True)
    return render_template("_part.html", view=view, part=state.job.part, faces=faces, kinds=kinds)


def axis_words(direction) -> str:
    """A direction, by its axis where it lies along one."""
    for k, name in enumerate(AXES):
        if abs(abs(direction[k]) - 1) < 1e-6:
            return ("" if direction[k] > 0 else "−") + name
    return "(" + ", ".join(f"{v:.4f}" for v in direction) + ")"


def describe_face(state: JobResults, index: int) -> FaceWords:
    """A face of the part in words and in the job's units."""
    face, units = state.job.part.faces[index], state.job.units
    rows = [r for r in state.rows if r.recipe.cad_face == index]
    kind = sheet.kind_for_face(face)
    if kind is None:
        return FaceWords(index, f"A {face['surface']}", "", False, rows)
    shape = shape_from_data(face["nominal"])
    at = ", ".join(f"{a} {length_text(v, units)}" for a, v in zip(AXES, spot_of(shape), strict=True))
    return FaceWords(index, _what(shape, kind.key(), bool(face["inside"]), units), at, True, rows)


def _what(shape, kind: str, inside: bool, units) -> str:
    """Its name, its size, and where it faces or runs."""
    words = stem_of(kind, inside)
    if radius_of(shape):
        words += f" Ø{length_text(2 * (radius_of(shape) or 0), units)}"
    if plane_of(shape) is not None:
        return f"{words}, facing {axis_words(shape.normal)}"
    axis = axis_of(shape)
    return words if axis is None else f"{words}, axis along {axis_words(axis.direction).lstrip('−')}"


@blueprint.get("/faces/<int:index>")
@reads
def face(job_id: int, index: int):
    with transaction() as session:
        state = load(session, job_id)
        if index >= len(state.job.part.faces):
            return "", 404
        return render_template("_face.html", face=describe_face(state, index), view=JobView.of(state), seen_of=sheet.seen_of)


@blueprint.post("/faces/<int:index>/plan")
@changes
def plan(job_id: int, index: int):
    sheet.plan_from_face(g.actor, job_id, index)
    return face(job_id, index)


@blueprint.post("/bodies")
@changes
def bodies(job_id: int):
    parts.choose_bodies(g.actor, job_id, asked.ids("body"))
    return "", 200, {"HX-Refresh": "true"}
