"""The page of an alignment with its zero in the middle of a bolt circle, clocked by a hole."""

from __future__ import annotations

from flask import Blueprint, g, render_template
from sqlalchemy.orm import Session

from ...jobs.align import systems
from ...jobs.state.results import JobResults
from .. import params
from ..answers import go_on
from ..doors import changes
from ..view import choices_of

blueprint = Blueprint("bolt_circle", __name__, url_prefix="/jobs/<int:job_id>/bolt-circle")


def bolt_circle_page(session: Session, state: JobResults) -> str:
    planes, holes = systems.bolt_circle_rows(state)
    return render_template("_bolt_circle.html", planes=planes, holes=holes, choices=choices_of(holes), job=state.job)


@blueprint.post("")
@changes
def plan(job_id: int):
    row = systems.plan_on_bolt_circle(g.actor, job_id, params.one_id("plane"), params.ids("of"), params.one_id("clock"))
    return go_on(job_id, "align", show=row)
