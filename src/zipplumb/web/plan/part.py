"""Part: what should it be?"""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.features import spot_of
from ...core.shape_codec import shape_from_data
from ...core.units import length_text
from ...exchange.table import RowText
from ...jobs.plan import adding, callouts, on_model, parts, picking, sheet, standing
from ...jobs.state.results import JobResults, as_it_stands
from ...jobs.state.rows_text import row_text
from ...jobs.words import stem_of
from ...store.database import stored, transaction
from ...store.models import Job
from .. import params
from ..answers import go_on
from ..doors import changes, reads
from ..stages import shows
from ..view import JobView
from .face_words import AXES, face_words
from .finding import found
from .forms import kinds_to_plan
from .section import section_form

blueprint = Blueprint("part", __name__, url_prefix="/jobs/<int:job_id>")
MOST_FOUND = 20  # rows, and as many faces


@dataclass(frozen=True)
class FaceWords:
    """Description of a picked face."""

    index: int
    words: str
    place: str
    can_plan: bool
    rows: list
    alike: tuple[int, ...] = ()
    stem: str = ""
    held: tuple[RowText, ...] = ()
    on: tuple[tuple[str, str], ...] = ()
    holds: bool = True


@shows("part")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    faces = sum(b["faces"] for b in state.job.part.bodies)
    recognised = sum(bool(face.get("recognised")) for face in state.job.part.faces)
    kinds = kinds_to_plan("feature", takes_hits=True)
    last = adding.last_plan(session, state.job.id)
    told, left = callouts.told_of(state), callouts.carried(state.job).left
    return render_template(
        "_part.html", view=view, part=state.job.part, faces=faces, recognised=recognised, kinds=kinds, last=last, told=told,
        left=left, taken_off=standing.taken_off(session, state.job.id),
    )  # fmt: skip


def describe_face(session: Session, state: JobResults, index: int) -> FaceWords:
    """A face of the part in words and in the job's units."""
    face, units = state.job.part.faces[index], state.job.units
    rows = [r for r in state.rows if r.recipe.cad_face == index]
    kind = picking.kind_for_face(face)
    if kind is None:
        may = picking.planned_as(face) is not None
        return FaceWords(index, f"A {face['surface']}", "", may, rows, holds=False)
    shape = shape_from_data(face["nominal"])
    at = ", ".join(f"{a} {length_text(v, units)}" for a, v in zip(AXES, spot_of(shape), strict=True))
    inside = bool(face["inside"])
    alike = tuple(picking.alike_on(session, state.job.id, index))
    facing = len(on_model.facing_alike(state.job.part.faces, index, state.job.kept_bodies))
    on = (("this", "this face"), *((("alike", f"all {len(alike)} alike"),) if len(alike) > 1 else ()),
          *((("facing", f"all {facing} faces that face this way"),) if facing > 1 else ()))  # fmt: skip
    held = tuple(row_text(state, i) for i in on_model.holding(state, index))
    if {r.recipe.cad_face for r in state.rows} >= set(alike):
        alike = ()  # all are planned
    words, stem = face_words(shape, kind.key(), inside, units), stem_of(kind.key(), inside)
    return FaceWords(index, words, at, True, rows, alike, stem, held, on)


@blueprint.get("/faces/<int:index>")
@reads
def face(job_id: int, index: int):
    with transaction() as session:
        state = as_it_stands(session, job_id)
        if index >= len(state.job.part.faces):
            return "", 404
        words, last = describe_face(session, state, index), adding.last_plan(session, job_id)
        place = {name: request.values.get(name, "") for name in ("point", "normal", "stem", "hits", "each")}
        edge = describe_edge(session, state, params.one_id("edge"))
        cut = section_form(state, index, request.values, params.numbers("point", 3) if place["point"] else None)
        return render_template(
            "_face.html",
            face=words,
            place=place,
            edge=edge,
            section=cut,
            view=JobView.of(state),
            seen_of=sheet.seen_of,
            last=last,
            tolerances=on_model.kinds(),
        )  # fmt: skip


@blueprint.get("/find")
@reads
def find(job_id: int):
    """Rows and faces by what they are called."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        rows, faces = found(state, request.args.get("words", ""))
    more = max(0, len(rows) - MOST_FOUND) + max(0, len(faces) - MOST_FOUND)
    return render_template("_found.html", rows=rows[:MOST_FOUND], faces=faces[:MOST_FOUND], more=more, job_id=job_id)


@blueprint.post("/faces/<int:index>/plan")
@changes
def plan(job_id: int, index: int):
    picking.plan_from_face(g.actor, job_id, index)
    return face(job_id, index)


@blueprint.post("/faces/<int:index>/plan-alike")
@changes
def plan_alike(job_id: int, index: int):
    picking.plan_alike(g.actor, job_id, index, request.form.get("stem", ""))
    return face(job_id, index)


@blueprint.post("/faces/<int:index>/tolerance")
@changes
def tolerance(job_id: int, index: int):
    """Put a tolerance on the picked face, or on all that are alike."""
    form = request.form
    with transaction() as session:
        units = stored(session, Job, job_id).units
        faces = on_model.alike_faces(session, job_id, index, form.get("on", ""))
    zone_mm = params.zone(units)
    if zone_mm is None:
        raise InputError("A tolerance needs its zone.", "Nothing was planned.", "Type what the drawing says.")
    wanted = on_model.Wanted(form.get("kind", ""), zone_mm, form.get("datums", ""), form.get("name", ""), form.get("note", ""))
    on_model.put(g.actor, job_id, faces, wanted)
    return face(job_id, index)


@blueprint.post("/edges/<int:edge>/plan")
@changes
def plan_edge(job_id: int, edge: int):
    (picking.plan_edges_alike if request.form.get("all") == "1" else picking.plan_from_edge)(g.actor, job_id, edge)
    return go_on(job_id, "part")


@blueprint.post("/edges/<int:edge>/place")
@changes
def plan_edge_point(job_id: int, edge: int):
    picking.plan_edge_point(g.actor, job_id, edge, params.numbers("point", 3), request.form.get("stem", ""))
    return go_on(job_id, "part")


def describe_edge(session: Session, state: JobResults, index: int | None) -> tuple[int, str, int] | None:
    """The edge where a face was picked, in words, and how many are alike; None where there is none that can be planned."""
    edge = picking.edge_at(session, state.job.id, index) if index is not None else None
    kind = picking.kind_for_face(edge) if edge else None
    if edge is None or kind is None or index is None:
        return None
    shape, units = shape_from_data(edge["nominal"]), state.job.units
    sizes = [2 * getattr(shape, n) for n in ("radius", "semi_major", "semi_minor") if hasattr(shape, n)]
    sizes += [getattr(shape, n) for n in ("length", "width") if hasattr(shape, n)]
    words = stem_of(kind.key(), edge["inside"] is not False)
    alike = len(picking.edges_alike(session, state.job.id, index))
    return index, f"{words} {' × '.join(length_text(size, units) for size in sizes)}".strip(), alike


@blueprint.post("/faces/<int:index>/place")
@changes
def plan_place(job_id: int, index: int):
    """A surface point where the face was picked."""
    stem, hits = request.form.get("stem", ""), 3 if request.form.get("hits") == "3" else 1
    picking.plan_place(g.actor, job_id, index, params.numbers("point", 3), params.numbers("normal", 3), stem, hits)
    return face(job_id, index)


@blueprint.post("/callouts")
@changes
def take_over(job_id: int):
    """Plan the tolerances that the part's file carries."""
    callouts.take_over(g.actor, job_id)
    return go_on(job_id, "part")


@blueprint.post("/take-back")
@changes
def take_back(job_id: int):
    """Take the newest act of planning back, as a whole."""
    adding.take_plan_back(g.actor, job_id, params.ids("row"))
    return go_on(job_id, "part")


@blueprint.post("/bodies")
@changes
def bodies(job_id: int):
    parts.choose_bodies(g.actor, job_id, params.ids("body"))
    return "", 200, {"HX-Refresh": "true"}
