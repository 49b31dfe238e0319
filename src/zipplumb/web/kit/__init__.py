"""Kit: what do I measure with?"""

from __future__ import annotations

from flask import Blueprint, g, render_template
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs import kit
from ...jobs.report import calibration_words
from ...jobs.results import JobResults
from ..job import done
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("kit", __name__, url_prefix="/jobs/<int:job_id>")


@shows("kit")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    cards = []
    for instrument in kit.instruments():
        cal = instrument.calibration
        cards.append(
            {
                "instrument": instrument,
                "here": view.instrument is not None and instrument.id == view.instrument.id,
                "probe": calibration_words(cal) if cal else "No calibrated probe",
                "offset": ", ".join(length_text(v, state.job.units) for v in cal.offset_mm) if cal else "",
                "note": cal.note if cal else "",
            }
        )
    return render_template("_kit.html", view=view, cards=cards)


@blueprint.post("/instruments/<int:instrument_id>/bring")
def bring(job_id: int, instrument_id: int):
    kit.bring_instrument(g.actor, job_id, instrument_id)
    return done()
