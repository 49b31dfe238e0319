"""Planning by forms and by lists of points."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from werkzeug.exceptions import NotFound

from ...core.sheet import KINDS
from ...core.units import length_text
from ...exchange.point_list import text_of
from ...jobs.plan import adding, listing
from ...jobs.state.results import as_it_stands
from ...store.database import transaction
from ..answers import done, go_on
from ..doors import changes, reads
from ..sizes import LIST_MB, takes
from .forms import plan_form, row_fields, typed_texts

LINES_SHOWN = 200
EVERY_MM = 10.0  # of a curve through listed points

blueprint = Blueprint("planning", __name__, url_prefix="/jobs/<int:job_id>")


@blueprint.get("/plan")
@reads
def form(job_id: int):
    """The form of a kind, to be filled."""
    typed = {name: text for name, text in request.args.items() if name != "kind"}
    return _form(job_id, request.args.get("kind", ""), typed)


@blueprint.post("/plan/form")
@changes
def refill(job_id: int):
    """The form again with what was typed, its dependent fields updated, with one more list item if asked."""
    return _form(job_id, request.form.get("kind", ""), typed_texts())


def _form(job_id: int, kind: str, texts: dict[str, str]):
    if kind not in KINDS:
        raise NotFound()
    with transaction() as session:
        return plan_form(session, as_it_stands(session, job_id), kind, texts)


@blueprint.post("/plan")
@changes
def plan(job_id: int):
    kind = request.form.get("kind", "")
    row = adding.plan_typed(g.actor, job_id, kind, typed_texts())
    return go_on(job_id, "align", show=row) if KINDS[kind].role == "system" else done()


@blueprint.post("/list")
@changes
@takes(LIST_MB)
def look_at_list(job_id: int):
    """A list of points as it was read, with what is wrong in which line; nothing is planned yet."""
    file = request.files.get("file")
    text = text_of(file.read()) if file else request.form.get("text", "")
    units = request.form.get("list_units", "")
    with transaction() as session:
        state = as_it_stands(session, job_id)
        found = listing.read_list(session, job_id, text, units)
        doubt = listing.doubt_of_units(session, job_id, found, state.job.units)
    shown = [
        (p.line, p.name, [length_text(v, state.job.units) for v in p.at], [f"{v:.4f}" for v in p.normal or ()])
        for p in found.points[:LINES_SHOWN]
    ]
    can_curve = len(found.points) > 1 and all(p.normal for p in found.points)
    return render_template(
        "_list.html", found=found, shown=shown, text=text, units=units, job_id=job_id, doubt=doubt, can_curve=can_curve,
        every=length_text(EVERY_MM, state.job.units),
    )  # fmt: skip


@blueprint.post("/list/plan")
@changes
@takes(LIST_MB)
def plan_list(job_id: int):
    listing.plan_list(g.actor, job_id, request.form.get("text", ""), request.form.get("list_units", ""))
    return go_on(job_id, "part")


@blueprint.post("/rows/<int:row_id>/form")
@changes
def refill_row(job_id: int, row_id: int):
    """A row's form with what was typed."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        fields = row_fields(session, state, row_id, typed_texts())
    return render_template("_form_fields.html", fields=fields)
