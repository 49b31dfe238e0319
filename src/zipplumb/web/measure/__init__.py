"""Measure: what is there?"""

from __future__ import annotations

from flask import Blueprint, g, jsonify, render_template, request
from sqlalchemy.orm import Session

from ...jobs import measure
from ...jobs.results import JobResults
from ..doors import changes
from ..job import done
from ..job.slip import row_slip
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("measure", __name__, url_prefix="/jobs/<int:job_id>")


@shows("measure")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    if state.current is None:
        return render_template("_measure_none.html", view=view)
    return row_slip(session, state, state.current.id)


@blueprint.post("/finish")
@changes
def finish(job_id: int):
    tone = measure.finish(g.actor, job_id)
    return done() if request.headers.get("HX-Request") else jsonify(tone=tone)


@blueprint.post("/undo")
@changes
def undo(job_id: int):
    measure.undo(g.actor, job_id, request.form.get("sweep") == "1")
    return done()


@blueprint.post("/step/<direction>")
@changes
def step(job_id: int, direction: str):
    measure.step(g.actor, job_id, -1 if direction == "back" else 1)
    return done()


@blueprint.post("/rows/<int:row_id>/side")
@changes
def side(job_id: int, row_id: int):
    measure.settle_side(g.actor, job_id, row_id, {"1": 1, "-1": -1}.get(request.form.get("air", ""), 0))
    return done()


@blueprint.post("/rows/<int:row_id>/hits/<key>")
@changes
def hit(job_id: int, row_id: int, key: str):
    measure.set_aside(g.actor, job_id, row_id, key, request.form.get("aside") == "1")
    return done()
