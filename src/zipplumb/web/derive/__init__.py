"""Derive: what does that make?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.errors import PlumbError
from ...core.sheet import PlaneRecipe
from ...core.units import length_text
from ...jobs import derive
from ...jobs.results import JobResults
from ...store.database import transaction
from ...store.models import Job
from ..job import done
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("derive", __name__, url_prefix="/jobs/<int:job_id>")


@shows("derive")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    planes = [
        (r.id, r.recipe.name, state.results[r.id].surface_world is not None)
        for r in state.rows
        if isinstance(r.recipe, PlaneRecipe)
    ]
    return render_template("_derive.html", view=view, planes=planes)


def _pair(values) -> tuple[int, int]:
    first, second = values.get("first", ""), values.get("second", "")
    return (int(first) if first.isdigit() else 0), (int(second) if second.isdigit() else 0)


@blueprint.get("/choices")
def choices(job_id: int):
    """What two chosen planes can make, each with its value."""
    first, second = _pair(request.args)
    if not first or not second or first == second:
        return render_template("_choices.html", choices=[], remark="Choose two different planes.")
    try:
        found, remark = derive.choices(job_id, first, second)
    except PlumbError as error:
        return render_template("_choices.html", choices=[], remark=str(error))
    with transaction() as session:
        units = session.get(Job, job_id).units
    shown = [
        {
            "measure": c.measure,
            "words": c.words,
            "value": length_text(c.value_mm, units) if c.value_mm is not None else "",
            "why_not": c.why_not,
            "ends": [round(float(v), 3) for end in c.ends_part for v in end] if c.ends_part else None,
        }
        for c in found
    ]
    return render_template("_choices.html", choices=shown, remark=remark, first=first, second=second, job_id=job_id)


@blueprint.post("/distances")
def plan(job_id: int):
    first, second = _pair(request.form)
    derive.plan_distance(g.actor, job_id, first, second, request.form.get("measure", ""))
    return done()
