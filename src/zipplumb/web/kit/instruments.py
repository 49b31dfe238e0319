"""The instruments: where they are reached, whether they are alive, and whether they may be believed."""

from __future__ import annotations

from collections.abc import Sequence

from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...jobs import hand
from ...jobs.kit import instruments, probes, trials
from ...jobs.kit.instrument_kinds import FACTOR, INSTRUMENT_KINDS
from ...jobs.kit.probes import PROBE_KINDS
from ...jobs.kit.trust import trusts
from ...store.database import transaction
from ...store.models import Instrument, InstrumentEvent, Job, Probe, Station, Trial
from .. import params
from ..answers import done, may_listen, seen
from ..doors import administers, changes, reads
from .words import calibration_line, choose_units

blueprint = Blueprint("instruments", __name__, url_prefix="/instruments")


def cards_of(session: Session, some: Sequence[Instrument]) -> list[dict]:
    """Data of the instruments' cards, with a fixed number of queries."""
    at = select(Station, Job).join(Job, Job.id == Station.job_id)
    places = {s.id: (s, j) for s, j in session.execute(at.where(Station.id.in_([i.station_id for i in some])))}
    running = session.scalars(select(Trial).where(Trial.id.in_([i.trial_id for i in some])))
    under_way = {trial.id: trial for trial in running}
    where = [places.get(i.station_id or 0, (None, None)) for i in some]
    trust = trusts(session, [(i, job.id if job else None) for i, (_, job) in zip(some, where, strict=True)])
    return [
        {
            "instrument": instrument,
            "kind": INSTRUMENT_KINDS[instrument.kind].words,
            "probe": calibration_line(instrument.calibration),
            "uncalibrated": instrument.calibration is not None and instrument.calibration.method == "drawn",
            "station": station,
            "job": job,
            "trust": its_trust,
            "trial": under_way.get(instrument.trial_id or 0),
            "lean_mrad": None if not instrument.level else 1000 * (instrument.level[0] ** 2 + instrument.level[1] ** 2) ** 0.5,
        }
        for instrument, (station, job), its_trust in zip(some, where, trust, strict=True)
    ]


@blueprint.get("")
@reads
def every():
    with transaction() as session:
        cards = cards_of(session, instruments.instruments())
        template = "_instruments.html" if request.headers.get("HX-Request") else "instruments.html"
        return render_template(template, cards=cards, kinds=INSTRUMENT_KINDS)


@blueprint.post("")
@administers
def add():
    return redirect(url_for("instruments.one", instrument_id=instruments.add_from_form(g.actor, request.form)))


@blueprint.post("/<int:instrument_id>")
@administers
def correct(instrument_id: int):
    instruments.correct(g.actor, instrument_id, request.form, seen())
    return redirect(url_for("instruments.one", instrument_id=instrument_id))


@blueprint.post("/<int:instrument_id>/remove")
@administers
def remove(instrument_id: int):
    instruments.remove(g.actor, instrument_id, seen())
    return redirect(url_for("instruments.every"))


@blueprint.get("/<int:instrument_id>")
@reads
def one(instrument_id: int):
    with transaction() as session:
        instrument = session.get(Instrument, instrument_id)
        if instrument is None or instrument.removed_at is not None:
            raise NotFound()
        events = session.scalars(
            select(InstrumentEvent)
            .where(InstrumentEvent.instrument_id == instrument_id)
            .order_by(InstrumentEvent.id.desc())
            .limit(5)
        ).all()
        earlier = session.scalars(
            select(Trial)
            .where(Trial.instrument_id == instrument_id, Trial.state != "running")
            .order_by(Trial.id.desc())
            .limit(8)
        ).all()
        library = [
            p for p in session.scalars(select(Probe).where(Probe.removed_at.is_(None)).order_by(Probe.name))
            if instrument.kind in PROBE_KINDS[p.kind].on
        ]  # fmt: skip
        checks = {k: v for k, v in trials.TRIALS.items() if instrument.kind in v.on and not v.makes}
        repeated = [key for key, check in checks.items() if check.again]
        begun = select(Trial.kind).where(Trial.kind.in_(repeated), Trial.instrument_id == instrument_id, Trial.state == "pass")
        template = "_instrument.html" if request.headers.get("HX-Request") else "instrument.html"
        return render_template(
            template, card=cards_of(session, [instrument])[0], events=events, earlier=earlier, library=library, checks=checks,
            kinds=trials.TRIALS, its=INSTRUMENT_KINDS[instrument.kind], factor=FACTOR,
            begun=set(session.scalars(begun)), hand=hand.control_address(instrument.port),
        )  # fmt: skip


@blueprint.post("/<int:instrument_id>/probe")
@changes
def put_on(instrument_id: int):
    probes.put_on(g.actor, instrument_id, params.one_id("probe") or 0)
    return redirect(url_for("instruments.one", instrument_id=instrument_id))


@blueprint.post("/units")
@reads
def units():
    choose_units()
    return "", 204, {"HX-Refresh": "true"}


@blueprint.post("/<int:instrument_id>/hand/<do>")
@changes
def move_hand(instrument_id: int, do: str):
    """Demo only: tell the stand-in what to do."""
    g.actor.must_change()
    with transaction() as session:
        instrument = session.get(Instrument, instrument_id)
        if instrument is None:
            raise NotFound()
        port = instrument.port
    more = {name: value for name, value in request.form.items() if name not in ("do", "csrf_token")}
    hand.tell_hand({**more, "do": do}, port)
    return done()


@blueprint.get("/live")
@reads
def live():
    """Word of everything that changes in the kit, and of every tip."""
    return may_listen("kit")
