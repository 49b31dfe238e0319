"""The page of an alignment as the part is mounted: a table to tick, its answer while one ticks."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...jobs.align import mounted
from ...jobs.plan.sheet import seen_of
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import transaction
from .. import params
from ..answers import go_on, seen
from ..doors import changes

blueprint = Blueprint("mounted", __name__, url_prefix="/jobs/<int:job_id>/mounted")


def mounted_page(session: Session, state: JobResults) -> str:
    row_id = params.one_id("row")
    ticks = () if row_id is None else mounted.ticks_of(state, row_id)
    candidates = mounted.candidates(state, ticks)
    return render_template(
        "_mounted.html",
        candidates=candidates,
        handles=[{"row": c.row, "name": c.name, "at": c.at, "ways": dict(zip(c.may, c.ways, strict=True))} for c in candidates],
        columns=mounted.COLUMNS,
        job=state.job,
        row=None if row_id is None else state.row(row_id),
        seen=None if row_id is None else seen_of(state.row(row_id).recipe),
    )


@blueprint.post("/tried")
@changes
def tried(job_id: int):
    """The alignment of the ticked holds, solved but not stored."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        row_id = params.one_id("row")
        before = state.alignment if row_id is None else state.results[state.row(row_id).id].alignment
        found = mounted.answer(state, request.form, before)
        return render_template("_mounted_answer.html", answer=found, job=state.job)


@blueprint.post("")
@changes
def keep(job_id: int):
    mounted.keep(g.actor, job_id, request.form, params.one_id("row"), seen())
    return go_on(job_id, "align")
