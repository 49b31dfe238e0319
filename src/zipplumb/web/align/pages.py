"""Align: where is the part?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from markupsafe import escape
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...core.errors import PlumbError
from ...core.units import length_text
from ...jobs.align import alignment_text, guided, systems
from ...jobs.plan.sheet import seen_of
from ...jobs.state.results import JobResults, as_it_stands, what_if
from ...store.database import transaction
from .. import params
from ..answers import done, go_on
from ..doors import changes, reads
from ..plan.forms import typed_texts
from ..stages import shows
from ..view import JobView
from . import bolt_circle, laid, mounted, points, rough, without_cad
from .roads import ROADS, road_page

blueprint = Blueprint("align", __name__, url_prefix="/jobs/<int:job_id>")
ROAD_BLUEPRINTS = (
    bolt_circle.blueprint, laid.blueprint, mounted.blueprint, points.blueprint, rough.blueprint, without_cad.blueprint,
)  # fmt: skip


@shows("align")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    rows = [row for row in state.rows if row.recipe.role == "system"]
    shown = next((row for row in rows if str(row.id) == request.args.get("show")), None)
    shown = shown or next((row for row in rows if row.id == state.job.alignment_row_id), rows[0] if rows else None)
    listed = [(row, alignment_text.worth(state, row.id), row.id == state.job.alignment_row_id) for row in rows]
    found = None if shown is None else alignment_text.alignment_text_of(state, shown)
    zones = [] if shown is None else guided.zones_of(state, shown)
    places = [] if shown is None else systems.places_of(state.results[shown.id].alignment)
    return render_template(
        "_align.html",
        view=view,
        listed=listed,
        shown=found,
        places=[(words, ",".join(f"{v:.6f}" for v in turn)) for words, turn in places],
        users=[] if shown is None else systems.users_of(state, shown.id),
        lettered=systems.lettered(state),
        may_be_datums=[] if shown is None else systems.may_be_datums(state, shown),
        seen_of=seen_of,
        zones=zones,
        zone="" if shown is None else length_text(shown.recipe.zone, state.job.units),
        failing=sum(point.word == "out" for point in zones),
        proofs=alignment_text.proofs_of(state) if found is not None and found.active else [],
        roads=ROADS,
    )


@blueprint.get("/align/<road>")
@reads
def road(job_id: int, road: str):
    """The page of one way to an alignment."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        found = road_page(road, session, state)
        if found is None:
            raise NotFound()
        return found


@blueprint.get("/alignments/<int:row_id>/known")
@reads
def known(job_id: int, row_id: int):
    """How well a place of the part is known in an alignment."""
    with transaction() as session:
        return escape(alignment_text.known_at(as_it_stands(session, job_id), row_id, params.numbers("point", 3)))


@blueprint.get("/alignments/<int:row_id>/compared")
@reads
def compared(job_id: int, row_id: int):
    """Differences between this alignment and the active one."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        row, active = state.row(row_id), state.job.alignment_row_id
        after = what_if(state, (), row.id)
        found = alignment_text.compared(state, state.results, after, active, row.id)
        return _comparison(state, found, row.id)


@blueprint.post("/alignments/<int:row_id>/preview")
@changes
def preview(job_id: int, row_id: int):
    """Differences that an edit of an alignment would make; nothing is stored."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        edited = systems.as_typed(session, state, row_id, typed_texts())
        after = what_if(state, [edited], state.job.alignment_row_id)
        found = alignment_text.compared(state, state.results, after, row_id, row_id)
        return _comparison(state, found, row_id)


@blueprint.post("/alignments/tried")
@changes
def tried(job_id: int):
    """The alignment of a form that is being filled; nothing is stored."""
    with transaction() as session:
        try:
            found = systems.tried(as_it_stands(session, job_id), request.form.get("kind", ""), typed_texts())
        except PlumbError as error:
            return render_template("_tried.html", message=error.happened, found=None)
    return render_template("_tried.html", found=found, message=found.message if found else "")


def _comparison(state: JobResults, found: alignment_text.Comparison, row_id: int) -> str:
    active = state.job.alignment_row_id
    name = state.row(active).recipe.name if active else "the instrument's own system"
    return render_template("_compared.html", found=found, job=state.job, row=state.row(row_id), active=name)


@blueprint.post("/alignments/<int:row_id>/place")
@changes
def place(job_id: int, row_id: int):
    systems.settle(g.actor, job_id, row_id, params.numbers("turn", 3))
    return done()


@blueprint.post("/alignments/<int:row_id>/copy")
@changes
def copy(job_id: int, row_id: int):
    return go_on(job_id, "align", show=systems.copy(g.actor, job_id, row_id))


@blueprint.post("/alignments")
@changes
def plan(job_id: int):
    return go_on(job_id, "align", show=systems.plan_lettered(g.actor, job_id))


@blueprint.post("/alignments/active")
@changes
def activate(job_id: int):
    systems.activate(g.actor, job_id, params.one_id("row"))
    return done()
