"""Place: is it where it belongs, and which way does it go?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs import details, fitter, place
from ...jobs.details_text import detail_text
from ...jobs.results import JobResults
from .. import asked
from ..doors import changes
from ..job import done
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("place", __name__, url_prefix="/jobs/<int:job_id>")


@shows("place")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    aims, placing, units = place.aims_of(state), place.Placing.of_job(state.job), state.job.units
    shown = details.details_of(session, state)
    words = state.job.placing.get("words", {})
    lines = [
        (row.id, row.recipe.name, length_text(float(zone), units)) for row, zone in zip(aims.rows, aims.zones_mm, strict=True)
    ]
    return render_template(
        "_place.html", view=view, lines=lines, aligned=state.alignment is not None, words=words, axes=place.AXES,
        zone=length_text(placing.zone_mm, units), columns=details.COLUMNS,
        details=[detail_text(state, now) for now in shown], links=fitter.count_of(session, [now.id for now in shown]),
    )  # fmt: skip


@blueprint.post("/placing")
@changes
def placing(job_id: int):
    place.set_placing(g.actor, job_id, request.form)
    return done()


@blueprint.post("/details")
@changes
def add(job_id: int):
    """A detail that is to be moved."""
    details.add(g.actor, job_id, request.form.get("name", ""), asked.ids("target"), request.form.get("adjusters", ""))
    return done()


@blueprint.post("/details/<int:detail_id>/turned")
@changes
def turned(job_id: int, detail_id: int):
    seen = request.form.get("round", "")
    details.turned(g.actor, job_id, detail_id, int(seen) if asked.is_count(seen) else -1)
    return done()


@blueprint.post("/details/<int:detail_id>/look")
@changes
def look(job_id: int, detail_id: int):
    details.look_again(g.actor, job_id, detail_id)
    return done()


@blueprint.post("/details/<int:detail_id>/remove")
@changes
def remove(job_id: int, detail_id: int):
    details.remove(g.actor, job_id, detail_id)
    return done()
