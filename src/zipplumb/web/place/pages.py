"""Place: is it where it belongs, and which way does it go?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.units import length_text, whole_number
from ...jobs import hand
from ...jobs.editions import edition_of
from ...jobs.place import details, fitter, placement
from ...jobs.place.adjuster_lines import COLUMNS
from ...jobs.place.belongs import HEIGHTS, AtOneHeight
from ...jobs.place.details_text import detail_text
from ...jobs.state.results import JobResults
from .. import params
from ..answers import done, seen, seen_now
from ..doors import changes
from ..stages import shows
from ..view import JobView

BELONGS = {"nominal": {"where": "nominal"}} | {
    f"{by} {to}": {"where": "height", "by": by, "to": to} for by in ("instrument", "system") for to in HEIGHTS
}
blueprint = Blueprint("place", __name__, url_prefix="/jobs/<int:job_id>")


@shows("place")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    aims, placing, units = placement.aims_of(state), placement.Placing.of_job(state.job), state.job.units
    kept = details.kept_of(session, state.job.id)
    shown = [details.placed(state, detail) for detail in kept]
    words = state.job.placing.get("words", {})
    lines = [
        (row.id, row.recipe.name, length_text(float(zone), units)) for row, zone in zip(aims.rows, aims.zones_mm, strict=True)
    ]
    with_nominal = {row.id for row in aims.rows}
    places = [
        (row.id, row.recipe.name if row.id in with_nominal else f"{row.recipe.name} (no nominal)", True)
        for row in AtOneHeight().may_be(state)
    ]
    return render_template(
        "_place.html", view=view, lines=lines, aligned=state.alignment is not None, words=words, axes=placement.AXES,
        zone=length_text(placing.zone_mm, units), columns=COLUMNS, places=places, bodies=state.job.part.bodies,
        movable=details.bodies_of(kept),
        details=[detail_text(state, now) for now in shown], links=fitter.count_of(session, [now.id for now in shown]),
        hand=hand.control_address(), editions={d.id: edition_of(d) for d in kept},
    )  # fmt: skip


@blueprint.post("/placing")
@changes
def placing(job_id: int):
    return seen_now("placing", placement.set_placing(g.actor, job_id, request.form, seen()))


@blueprint.post("/details")
@changes
def add(job_id: int):
    """A detail that is to be moved."""
    form = request.form
    belongs = BELONGS.get(form.get("belongs", ""))
    if belongs is None:
        raise InputError("A detail belongs at its nominal places or at one height.", "Nothing was kept.", "Choose one.")
    details.add(
        g.actor, job_id, form.get("name", ""), params.ids("target"), form.get("adjusters", ""), belongs, params.one_id("body")
    )
    return done()


@blueprint.post("/details/<int:detail_id>/turned")
@changes
def turned(job_id: int, detail_id: int):
    number = whole_number(request.form.get("round", ""))
    details.turned(g.actor, job_id, detail_id, -1 if number is None else number)
    return done()


@blueprint.post("/details/<int:detail_id>/look")
@changes
def look(job_id: int, detail_id: int):
    details.look_again(g.actor, job_id, detail_id)
    return done()


@blueprint.post("/details/<int:detail_id>/fix")
@changes
def fix(job_id: int, detail_id: int):
    details.fix(g.actor, job_id, detail_id, seen())
    return done()


@blueprint.post("/details/<int:detail_id>/loosen")
@changes
def loosen(job_id: int, detail_id: int):
    details.loosen(g.actor, job_id, detail_id, seen())
    return done()


@blueprint.post("/details/<int:detail_id>/remove")
@changes
def remove(job_id: int, detail_id: int):
    details.remove(g.actor, job_id, detail_id, seen())
    return done()
