"""The page of guided points: which ones, and how far each may lie off."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs.align import guided
from ...jobs.state.results import JobResults
from .. import params
from ..answers import done, go_on
from ..doors import changes
from ..view import choices_of

blueprint = Blueprint("points", __name__, url_prefix="/jobs/<int:job_id>/points")
ZONE_MM = 0.5


def points_page(session: Session, state: JobResults) -> str:
    zone = length_text(ZONE_MM, state.job.units)
    rows = guided.may_guide(state)
    return render_template("_points.html", rows=rows, choices=choices_of(rows), zone=zone, job=state.job)


@blueprint.post("")
@changes
def plan(job_id: int):
    guided.plan(g.actor, job_id, params.ids("of"), request.form.get("zone", ""))
    return go_on(job_id, "measure")


@blueprint.post("/<int:row_id>/zone")
@changes
def zone(job_id: int, row_id: int):
    guided.tighten(g.actor, job_id, row_id, request.form.get("zone", ""))
    return done()


@blueprint.post("/<int:row_id>/again")
@changes
def again(job_id: int, row_id: int):
    guided.ask_again(g.actor, job_id, row_id)
    return go_on(job_id, "measure")
