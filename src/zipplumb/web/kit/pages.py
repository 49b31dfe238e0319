"""Kit: what do I measure with?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...jobs.kit import instruments, stations
from ...jobs.kit.network_text import network_text
from ...jobs.kit.trial_kinds import TRIALS
from ...jobs.kit.trust import trust_in
from ...jobs.state.results import JobResults
from ...store.database import stored
from ...store.models import Instrument
from ..answers import done
from ..doors import changes
from ..stages import shows
from ..view import JobView
from .words import calibration_line

blueprint = Blueprint("kit", __name__, url_prefix="/jobs/<int:job_id>")


@shows("kit")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    stood = {state.stood[station].id for station in state.read_from & state.stood.keys()}
    cards = []
    for instrument in instruments.instruments():
        here = view.instrument is not None and instrument.id == view.instrument.id
        if not here and not instrument.connected:
            continue
        cards.append(
            {
                "instrument": instrument,
                "here": here,
                "stands": instrument.station_id in state.kit.stations,
                "stood": instrument.id in stood,
                "line": calibration_line(instrument.calibration),
                "trust": trust_in(session, stored(session, Instrument, instrument.id), state.job.id) if here else None,
                "trial": instrument.trial_id,
            }
        )
    cards.sort(key=lambda card: not card["here"])
    network = network_text(state)
    titles = {key: kind.title for key, kind in TRIALS.items()}
    last = stations.last_effect(session, state)
    return render_template("_kit.html", view=view, cards=cards, titles=titles, network=network, rows=state.measured, last=last)


@blueprint.post("/instruments/<int:instrument_id>/bring")
@changes
def bring(job_id: int, instrument_id: int):
    stations.bring(g.actor, job_id, instrument_id, unmoved=request.form.get("unmoved") == "1")
    return done()


@blueprint.post("/rows/<int:row_id>/sightings/<int:station_id>")
@changes
def sighting(job_id: int, row_id: int, station_id: int):
    """Count, or set aside, the observation of a common point from one station."""
    stations.set_sighting_aside(g.actor, job_id, row_id, station_id, request.form.get("aside") == "1")
    return done()
