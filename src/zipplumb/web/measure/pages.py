"""Measure: what is there?"""

from __future__ import annotations

import numpy as np
from flask import Blueprint, g, jsonify, render_template, request
from markupsafe import escape
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...jobs.kit import looks
from ...jobs.measure import again, measuring, touching
from ...jobs.measure.criteria import other_criteria
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done
from ..doors import changes, reads
from ..job.slip import go_on_with, row_slip
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("measure", __name__, url_prefix="/jobs/<int:job_id>")


@shows("measure")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    if state.current is None:
        return render_template("_measure_none.html", view=view, touching=state.job.touching)
    return row_slip(session, state, state.current.id)


@blueprint.post("/finish")
@changes
def finish(job_id: int):
    tone = measuring.finish(g.actor, job_id)
    return done() if request.headers.get("HX-Request") else jsonify(tone=tone)


@blueprint.post("/undo")
@changes
def undo(job_id: int):
    measuring.undo(g.actor, job_id, request.form.get("sweep") == "1")
    return done()


@blueprint.post("/step/<direction>")
@changes
def step(job_id: int, direction: str):
    measuring.step(g.actor, job_id, -1 if direction == "back" else 1)
    return done()


@blueprint.post("/touch")
@changes
def just_touch(job_id: int):
    touching.turn(g.actor, job_id)
    return done()


@blueprint.post("/way")
@changes
def next_way(job_id: int):
    measuring.next_way(g.actor, job_id)
    return done()


def _aimed(session: Session, job_id: int) -> looks.Aimed:
    places = [np.array(params.numbers(name, 3)) if request.values.get(name) else None for name in ("at", "normal", "to")]
    at, outward, to = places
    if at is None or outward is None:
        raise InputError("Nothing is aimed at.", looks.NOTHING, "Click on the part where it is to look.")
    to = to if request.values.get("shape") == "line" else None
    return looks.Aimed.typed(request.values, params.one_id("face"), at, outward, to, stored(session, Job, job_id))


@blueprint.get("/look")
@reads
def expected(job_id: int):
    """Expected uncertainty of a radar's look at the clicked place."""
    with snapshot() as session:
        found = looks.expected(as_it_stands(session, job_id), _aimed(session, job_id))
    return render_template("_look_told.html", found=found, lines=found.lines)


@blueprint.post("/look")
@changes
def look(job_id: int):
    with snapshot() as session:
        aimed = _aimed(session, job_id)
    return render_template("_look_told.html", asked_for=looks.look(g.actor, job_id, aimed))


@blueprint.post("/rows/<int:row_id>/choose")
@changes
def choose(job_id: int, row_id: int):
    measuring.choose(g.actor, job_id, row_id, request.form.get("code", ""))
    return done()


@blueprint.get("/rows/<int:row_id>/criteria")
@reads
def criteria(job_id: int, row_id: int):
    """Results by the other criteria of fitting."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        state.row(row_id)
        return escape(other_criteria(state, row_id))


@blueprint.post("/rows/<int:row_id>/become")
@changes
def become(job_id: int, row_id: int):
    again.become(g.actor, job_id, row_id, request.form.get("kind", ""), request.form.get("seen", ""))
    return go_on_with(job_id, row_id)


@blueprint.post("/rows/<int:row_id>/join")
@changes
def join(job_id: int, row_id: int):
    into = params.one_id("into")
    again.join(g.actor, job_id, row_id, into)
    return go_on_with(job_id, into or row_id)


@blueprint.post("/rows/<int:row_id>/give-back")
@changes
def give_back(job_id: int, row_id: int):
    again.give_back(g.actor, job_id, row_id)
    return go_on_with(job_id, row_id)


@blueprint.post("/rows/<int:row_id>/side")
@changes
def side(job_id: int, row_id: int):
    measuring.settle_side(g.actor, job_id, row_id, {"1": 1, "-1": -1}.get(request.form.get("air", ""), 0))
    return done()


@blueprint.post("/rows/<int:row_id>/hits/<key>")
@changes
def hit(job_id: int, row_id: int, key: str):
    measuring.set_aside(g.actor, job_id, row_id, key, request.form.get("aside") == "1")
    return done()
