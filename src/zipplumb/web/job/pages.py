"""A job's page: the shell, its live events, the run sheet's rows, and what a row says of itself."""

from __future__ import annotations

from flask import Blueprint, Response, g, redirect, render_template, request, url_for
from werkzeug.exceptions import NotFound

from ...core.units import UNITS, number_from_text
from ...jobs import hand
from ...jobs.kit.trust import why_due
from ...jobs.measure import measuring
from ...jobs.measure.clouds import progress_of
from ...jobs.pieces.carrying_over import is_offered
from ...jobs.place.details import movable_bodies
from ...jobs.plan import sheet
from ...jobs.state.results import as_it_stands
from ...store.database import stored, transaction
from ...store.models import Job, Part
from .. import params
from ..answers import done, may_listen, seen, seen_now
from ..doors import changes, reads
from ..stages import STAGES, panel
from ..view import JobView, scene_of
from .slip import go_on_with, row_slip

BY_ITSELF = "X-By-Itself"  # asked by the page, not by a person

blueprint = Blueprint("job", __name__, url_prefix="/jobs/<int:job_id>")


@blueprint.get("/")
@reads
def start(job_id: int):
    return redirect(url_for("job.page", job_id=job_id, stage="measure"))


@blueprint.get("/<stage>")
@reads
def page(job_id: int, stage: str):
    if stage not in STAGES:
        raise NotFound()
    with transaction() as session:
        state = as_it_stands(session, job_id)
        view = JobView.of(state, why_due(session, state.instrument, job_id))
        content = panel(stage, session, state, view)
        offered = is_offered(session, state)
        if BY_ITSELF in request.headers:  # the stages' words stay under the pointer that may be pressing them
            return content
        if request.headers.get("HX-Request"):
            content += render_template("_words.html", view=view, stage=stage, stages=STAGES, offered=offered, oob=True)
            # the instrument that stands here may be another by now
            return content + (render_template("_hand_moves.html", view=view, oob=True) if hand.control_address() else "")
        part = state.job.part
        about = {
            "sha256": part.sha256,
            "kept": state.job.kept_bodies,
            "scene": scene_of(state),
            "unit": vars(UNITS[state.job.units]),
        }
        about["movable"] = movable_bodies(session, job_id)
    return render_template(
        "shell.html",
        view=view,
        stage=stage,
        stages=STAGES,
        content=content,
        about=about,
        offered=offered,
        hand=hand.control_address(),
    )


@blueprint.get("/live")
@reads
def live(job_id: int):
    with transaction() as session:
        if session.get(Job, job_id) is None:
            raise NotFound()
    return may_listen(f"job {job_id}")


@blueprint.get("/model")
@reads
def model(job_id: int):
    """The packed CAD model; it never changes for one file, so a browser may keep it."""
    with transaction() as session:
        part = stored(session, Part, stored(session, Job, job_id).part_id)
        response = Response(part.model, mimetype="application/octet-stream")
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@blueprint.get("/sheet/<int:first>")
@reads
def block(job_id: int, first: int):
    """Rows of the sheet that a page has come to."""
    with transaction() as session:
        view = JobView.of(as_it_stands(session, job_id))
    return render_template("_block.html", block=view.block(first), view=view)


@blueprint.get("/rows/<int:row_id>")
@reads
def row(job_id: int, row_id: int):
    with transaction() as session:
        return row_slip(session, as_it_stands(session, job_id), row_id)


@blueprint.post("/rows/<int:row_id>/current")
@changes
def make_current(job_id: int, row_id: int):
    measuring.make_current(g.actor, job_id, row_id)
    return done()


@blueprint.post("/rows/<int:row_id>/edit")
@changes
def edit(job_id: int, row_id: int):
    texts = {k: v for k, v in request.form.items() if k not in ("csrf_token", "seen")}
    return seen_now(row_id, sheet.edit_row(g.actor, job_id, row_id, texts, seen()))


@blueprint.post("/rows/<int:row_id>/back")
@changes
def edit_back(job_id: int, row_id: int):
    sheet.take_edit_back(g.actor, job_id, row_id, seen())
    return go_on_with(job_id, row_id)


@blueprint.post("/rows/<int:row_id>/terms")
@changes
def terms(job_id: int, row_id: int):
    return seen_now(row_id, sheet.switch_terms(g.actor, job_id, row_id, seen()))


@blueprint.post("/units")
@changes
def units(job_id: int):
    sheet.set_units(g.actor, job_id, request.form.get("units", ""), seen())
    return "", 200, {"HX-Refresh": "true"}


@blueprint.get("/rows/<int:row_id>/working-out")
@reads
def working_out(job_id: int, row_id: int):
    """How far a worker is with a scan or a map; nothing once it is done."""
    with transaction() as session:
        share = progress_of(session, job_id, row_id)
    return render_template("_working_out.html", share=share, job_id=job_id, row_id=row_id)


@blueprint.get("/table")
@changes
def table(job_id: int):
    """Faces of the part before the demo's stand-in, where no CAD shows it."""
    return render_template("_hand_table.html", faces=hand.on_the_table(job_id), job_id=job_id)


@blueprint.post("/hand/<do>")
@changes
def move_hand(job_id: int, do: str):
    """Tell the demo's stand-in what to touch."""
    form = request.form
    more: dict = {k: form[k] for k in ("button", "probe") if k in form}
    for name in ("face", "hits", "detail", "number"):
        if name in form:
            more[name] = params.one_id(name)
    if "point" in form:
        more["point"] = params.numbers("point", 3)
    if do == "touch_at":  # what touches does not look at how light is held
        more |= _light()
    if do == "pull_off":
        more["wrong"] = form.get("wrong") == "1"
    hand.move_hand(g.actor, job_id, do, **more)
    return done()


def _light() -> dict[str, float]:
    """To which side it leans, how far away it is held, and how far apart its lines are to be; what is not said is left out."""
    said = {name: request.form.get(name, "").strip() for name in ("side", "away_mm", "lines_mm")}
    return {name: number_from_text(text, name) for name, text in said.items() if text}
