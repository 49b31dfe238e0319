"""The library of probes, and each probe's history."""

from __future__ import annotations

from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy import select
from werkzeug.exceptions import NotFound

from ...core.calibration import both_units
from ...core.errors import InputError
from ...jobs.kit import probes
from ...jobs.kit.heads import HEAD_FIELDS, head_words
from ...jobs.kit.probes import PROBE_KINDS
from ...jobs.kit.trial_kinds import TRIALS
from ...jobs.state.readings import applied_calibrations
from ...store.database import transaction
from ...store.models import Instrument, Probe
from ..answers import seen
from ..doors import changes, reads
from .words import METHODS

blueprint = Blueprint("probes", __name__, url_prefix="/probes")


@blueprint.get("")
@reads
def every(typed: probes.Typed | None = None):
    with transaction() as session:
        library = session.scalars(select(Probe).where(Probe.removed_at.is_(None)).order_by(Probe.name)).all()
        past = probes.history(session, *(probe.id for probe in library))
        used = probes.uses_of(session, (cal.id for cal in past))
        lines = []
        for probe in library:
            mine = [cal for cal in past if cal.probe_id == probe.id]
            jobs = {use.job for cal in mine for use in used.get(cal.id, ())}
            last = next((cal for cal in mine if cal.method != "drawn"), None)
            lines.append({"probe": probe, "both": both_units(probe.diameter_mm), "last": last, "jobs": sorted(jobs)})
    return render_template(
        "probes.html", lines=lines, kinds=PROBE_KINDS, methods=METHODS, typed=typed, form=request.form, head_fields=HEAD_FIELDS
    )


@blueprint.post("")
@changes
def add():
    typed = probes.typed_probe(request.form)
    answer = request.form.get("answer", "")
    if answer == "likely" and typed.question and typed.question.likely_mm:
        typed = probes.Typed(typed.name, typed.kind, typed.question.likely_mm, typed.drawn_offset_mm, None)
    if typed.question is not None and answer != "keep":
        return every(typed)
    return redirect(url_for("probes.one", probe_id=probes.add_probe(g.actor, typed, sure=True)))


def _page(probe_id: int, typed: probes.Typed | None = None):
    with transaction() as session:
        probe = session.get(Probe, probe_id)
        if probe is None or probe.removed_at is not None:
            raise NotFound()
        applied = applied_calibrations(session)
        made = probes.history(session, probe_id)
        used = probes.uses_of(session, (cal.id for cal in made))
        every_one = {i.id: i for i in session.scalars(select(Instrument).order_by(Instrument.id))}
        past = [
            {
                "cal": cal,
                "on": every_one.get(cal.instrument_id or 0),
                "uses": used.get(cal.id, []),
                "applied": applied.get(cal.id),
            }
            for cal in made
        ]
        fitting = [
            i for i in every_one.values() if i.removed_at is None and i.kind in PROBE_KINDS[probe.kind].on
        ]  # fmt: skip
        return render_template(
            "probe.html", probe=probe, both=both_units(probe.diameter_mm), past=past, instruments=fitting, kinds=PROBE_KINDS,
            trials=TRIALS, methods=METHODS, typed=typed, form=request.form, trend=trend([c["cal"] for c in past]),
            head_fields=HEAD_FIELDS, head=head_words(probe.maker_states),
        )  # fmt: skip


def trend(newest_first: list) -> dict | None:
    """The rms of earlier calibrations as a line to be drawn, oldest first; None for fewer than two."""
    made = [c for c in reversed(newest_first) if c.method not in ("drawn", "stated")]
    if len(made) < 2:
        return None
    top = max(max(c.rms_mm for c in made), max(c.limit_mm for c in made)) * 1.15
    step = 300 / (len(made) - 1)
    points = [(round(10 + k * step, 1), round(70 - 62 * c.rms_mm / top, 1), c) for k, c in enumerate(made)]
    return {"points": points, "limit": round(70 - 62 * made[-1].limit_mm / top, 1)}


@blueprint.get("/<int:probe_id>")
@reads
def one(probe_id: int):
    return _page(probe_id)


@blueprint.post("/<int:probe_id>")
@changes
def correct(probe_id: int):
    typed = probes.typed_probe(request.form)
    answer = request.form.get("answer", "")
    if answer == "likely" and typed.question and typed.question.likely_mm:
        typed = probes.Typed(typed.name, typed.kind, typed.question.likely_mm, typed.drawn_offset_mm, None)
    if typed.question is not None and answer != "keep":
        return _page(probe_id, typed)
    probes.correct_probe(g.actor, probe_id, typed, sure=True, seen=seen())
    return redirect(url_for("probes.one", probe_id=probe_id))


@blueprint.post("/<int:probe_id>/remove")
@changes
def remove(probe_id: int):
    probes.remove_probe(g.actor, probe_id, seen())
    return redirect(url_for("probes.every"))


@blueprint.post("/<int:probe_id>/calibrations/<int:calibration_id>/<act>")
@changes
def calibration(probe_id: int, calibration_id: int, act: str):
    acts = {
        "forget": probes.forget_calibration,
        "apply": probes.apply_newest,
        "take-back": probes.take_back,
        "trust": probes.lift_doubt,
    }
    if act not in acts:
        raise InputError("That cannot be done with a calibration.", "Nothing was changed.", "Go back and try again.")
    acts[act](g.actor, calibration_id)
    return redirect(url_for("probes.one", probe_id=probe_id))
