"""A calibration or a check while it is taken, and its result."""

from __future__ import annotations

import numpy as np
from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy import select
from werkzeug.exceptions import NotFound

from ...core.calibration import both_units, question_about
from ...core.errors import InputError
from ...core.trust import DEGREES_C
from ...core.units import length_from_text, unit_of
from ...jobs import hand
from ...jobs.kit import trials
from ...jobs.kit.probes import BALLS
from ...store.database import stored, transaction
from ...store.models import Instrument, Probe, Trial
from .. import params
from ..answers import done
from ..doors import changes, reads
from .drawings import bars_of, reach_of, sphere_of, spread_of

blueprint = Blueprint("trials", __name__, url_prefix="/trials")


@blueprint.post("")
@changes
def begin():
    """From the forms of the instruments', the probes' and a job's pages; an implausible sphere is questioned first."""
    form = request.form.to_dict()
    if form.get("certified") and form.get("answer") != "keep":
        certified = length_from_text(form["certified"], unit_of(form, "certified"), "the certified diameter")
        question = question_about("sphere", certified)
        if question is not None and form.get("answer") == "likely" and question.likely_mm:
            form |= {"certified": str(question.likely_mm), "certified_unit": "mm"}
        elif question is not None:
            return render_template(
                "question.html", question=question, form=form, likely=question.likely_mm and both_units(question.likely_mm)
            )
    form["sure"] = "1" if form.get("answer") else ""
    trial_id = trials.begin(g.actor, form.get("kind", ""), params.one_id("instrument") or 0, form, params.one_id("job"))
    return redirect(url_for("trials.one", trial_id=trial_id))


DRAWINGS = {"reach": reach_of, "sphere": sphere_of, "spread": spread_of, "bars": bars_of}


@blueprint.get("/<int:trial_id>")
@reads
def one(trial_id: int):
    with transaction() as session:
        trial = session.get(Trial, trial_id)
        if trial is None:
            raise NotFound()
        instrument = stored(session, Instrument, trial.instrument_id)
        probe = session.get(Probe, trial.probe_id) if trial.probe_id else None
        outcome = trials.outcome_of(session, trial)
        drawing = DRAWINGS[outcome.drawing["kind"]](outcome.drawing)
        read = trials.read_by(session, trial_id)
        sweeps = np.unique(read.sweeps, return_counts=True) if len(read) else ((), ())
        balls = session.scalars(
            select(Probe).where(Probe.kind.in_(BALLS), Probe.removed_at.is_(None)).order_by(Probe.name)
        ).all()
        now, then = instrument.temperature_c, trial.temperature_c
        template = "_trial.html" if request.headers.get("HX-Request") else "trial.html"
        return render_template(
            template, trial=trial, about=trials.TRIALS[trial.kind], instrument=instrument, probe=probe, outcome=outcome,
            drawing=drawing, balls=balls, sweeps=list(zip(*sweeps, strict=True)), hand=hand.control_address(instrument.port),
            warmer=now - then if now is not None and then is not None and abs(now - then) > DEGREES_C else None,
            certified=both_units(trial.settings["certified_mm"]) if "certified_mm" in trial.settings else "",
        )  # fmt: skip


@blueprint.post("/<int:trial_id>/<act>")
@changes
def act(trial_id: int, act: str):
    """Finish, undo or give up from the page; the instrument's buttons do the same."""
    with transaction() as session:
        if session.get(Trial, trial_id) is None:
            raise NotFound()
    if act == "finish":
        trials.finish(g.actor, trial_id)
    elif act == "undo":
        trials.undo(g.actor, trial_id)
    elif act == "end":
        trials.end(g.actor, trial_id)
    else:
        raise InputError("That cannot be done here.", "Nothing was changed.", "Go back and try again.")
    return done()
