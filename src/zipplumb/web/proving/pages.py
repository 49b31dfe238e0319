"""What would settle a row that is not proven, and what would for the whole sheet."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request, url_for

from ...core.units import length_from_text, length_text, number_from_text
from ...jobs.kit import instruments
from ...jobs.proving import acts, plans
from ...jobs.proving.plans_told import plan_told
from ...jobs.proving.standing import causes_of, settling_of
from ...jobs.proving.told import causes_told, left_to_prove, told
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import in_slip
from ..doors import changes, reads
from ..job.slip import go_on_with
from ..view import JobView

blueprint = Blueprint("proving", __name__, url_prefix="/jobs/<int:job_id>/proving")
FAR_MM, HIGH_MM = 2500.0, 1500.0


@blueprint.get("/rows/<int:row_id>")
@reads
def ways(job_id: int, row_id: int):
    """The ways that would settle a row, for its details."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found = settling_of(session, state, row_id)
        shown = None if found is None else told(state, row_id, found)
        return render_template("_settling.html", job_id=job_id, row_id=row_id, found=shown)


@blueprint.post("/rows/<int:row_id>")
@changes
def plan(job_id: int, row_id: int):
    """Plan one of the ways."""
    acts.plan(g.actor, job_id, row_id, request.form.get("way", "")[:200])
    return go_on_with(job_id, row_id)


@blueprint.get("")
@reads
def sheet(job_id: int):
    """How far the sheet is from proven, and what would bring the most of it there."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found, units, plan = causes_of(session, state), state.job.units, plans.newest(session, job_id)
        return render_template(
            "_proving.html", view=JobView.of(state), left=left_to_prove(state, found), causes=causes_told(state, found),
            instruments=instruments.instruments(), far=length_text(FAR_MM, units), high=length_text(HIGH_MM, units),
            used=f"{100 * plans.USED:.0f}", orders=plans.has_orders(state), job_id=job_id, plan=plan,
            told=None if plan is None else plan_told(state, plan),
        )  # fmt: skip


@blueprint.post("/causes/<int:row_id>")
@changes
def mend(job_id: int, row_id: int):
    """Plan the hits on one row by which the most others are settled."""
    acts.mend(g.actor, job_id, row_id)
    return go_on_with(job_id, row_id)


@blueprint.post("/plans")
@changes
def ask(job_id: int):
    """Have a plan that proves worked out."""
    with transaction() as session:
        units = stored(session, Job, job_id).units
    far = length_from_text(request.form.get("far", "")[:40], units, "how far off")
    high = length_from_text(request.form.get("high", "")[:40], units, "how high")
    used = number_from_text(request.form.get("used", "")[:40], "the share of the tolerance")
    plans.ask(g.actor, job_id, params.one_id("instrument") or 0, used / 100, far, high, bool(request.form.get("orders")))
    return proof(job_id)


@blueprint.get("/plan")
@reads
def proof(job_id: int):
    """The plan that was asked for last, or how far it is."""
    with snapshot() as session:
        state, plan = as_it_stands(session, job_id), plans.newest(session, job_id)
        return render_template("_proof.html", job_id=job_id, plan=plan, told=None if plan is None else plan_told(state, plan))


@blueprint.post("/plans/<int:plan_id>")
@changes
def take_over(job_id: int, plan_id: int):
    """Give the rows that are ticked their hits."""
    plans.take_over(g.actor, job_id, plan_id, params.ids("row"))
    return in_slip(url_for("proving.sheet", job_id=job_id))
