"""The page of an alignment without CAD, which is made at the device."""

from __future__ import annotations

from flask import Blueprint, g, render_template
from sqlalchemy.orm import Session

from ...jobs.plan import without_cad
from ...jobs.state.results import JobResults
from ..answers import go_on
from ..doors import changes
from ..plan.forms import plan_form

blueprint = Blueprint("without_cad", __name__, url_prefix="/jobs/<int:job_id>/without-cad")


def without_cad_page(session: Session, state: JobResults) -> str:
    form = plan_form(session, state, without_cad.KIND, {})
    return render_template("_without_cad.html", form=form, job=state.job, growing=without_cad.growing_row(state))


@blueprint.post("")
@changes
def begin(job_id: int):
    without_cad.begin(g.actor, job_id)
    return go_on(job_id, "measure")
