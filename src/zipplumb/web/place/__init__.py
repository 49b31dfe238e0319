"""Place: is it where it belongs, and which way does it go?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs import place
from ...jobs.results import JobResults
from ..doors import changes
from ..job import done
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("place", __name__, url_prefix="/jobs/<int:job_id>")


@shows("place")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    aims, placing, units = place.aims_of(state), place.Placing.of_job(state.job), state.job.units
    words = state.job.placing.get("words", {})
    lines = [
        (row.id, row.recipe.name, length_text(float(zone), units)) for row, zone in zip(aims.rows, aims.zones_mm, strict=True)
    ]
    return render_template(
        "_place.html", view=view, lines=lines, aligned=state.alignment is not None, words=words, axes=place.AXES,
        zone=length_text(placing.zone_mm, units),
    )  # fmt: skip


@blueprint.post("/placing")
@changes
def placing(job_id: int):
    place.set_placing(g.actor, job_id, request.form)
    return done()
