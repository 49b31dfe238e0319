"""Align: where is the part?"""

from __future__ import annotations

from flask import Blueprint, g, render_template
from sqlalchemy.orm import Session

from ...core.units import degrees_text, length_text
from ...jobs import align
from ...jobs.results import JobResults
from .. import asked
from ..doors import changes
from ..job import done
from ..planning import kinds_to_plan
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("align", __name__, url_prefix="/jobs/<int:job_id>")


@shows("align")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    units = state.job.units
    cards = []
    for row in (r for r in state.rows if r.recipe.role == "system"):
        found = state.results[row.id]
        squareness = [
            (f"{s.first} to {s.second}", degrees_text(s.error_rad), length_text(s.over_mm, units), s.went_to)
            for s in (found.alignment.squareness if found.alignment else ())
        ]
        active = row.id == state.job.alignment_row_id
        places = [(words, ",".join(f"{v:.6f}" for v in turn)) for words, turn in align.places_of(found.alignment)]
        cards.append({"row": row, "found": found, "squareness": squareness, "active": active, "places": places})
    lettered = sorted((text.datum, text.name) for text in view.rows if text.datum)
    return render_template("_align.html", view=view, cards=cards, lettered=lettered, kinds=kinds_to_plan("system"))


@blueprint.post("/alignments/<int:row_id>/place")
@changes
def place(job_id: int, row_id: int):
    align.settle(g.actor, job_id, row_id, asked.numbers("turn", 3))
    return done()


@blueprint.post("/alignments")
@changes
def plan(job_id: int):
    align.plan_datum_planes(g.actor, job_id)
    return done()


@blueprint.post("/alignments/active")
@changes
def activate(job_id: int):
    align.activate(g.actor, job_id, asked.one_id("row"))
    return done()
