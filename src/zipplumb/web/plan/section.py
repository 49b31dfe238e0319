"""A section across the part: seen on the stage before it is planned."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.units import length_text
from ...jobs.plan import sections
from ...jobs.state.results import JobResults
from ...store.database import stored, transaction
from ...store.models import Job
from .. import params
from ..answers import go_on
from ..doors import changes
from ..sizes import LIST_MB, takes

blueprint = Blueprint("section", __name__, url_prefix="/jobs/<int:job_id>/section")
EVERY_MM = 10.0


@dataclass(frozen=True)
class SectionForm:
    """Initial values of the form of a section. ``faces``: those it crosses; ``more``: whether the next picked face is added."""

    faces: tuple[int, ...]
    across: str
    direction: tuple[str, str, str]
    through: str
    at: str
    every: str
    more: bool


def section_form(state: JobResults, face: int, told: Mapping[str, str], point: list[float] | None) -> SectionForm:
    """For a picked face; what was typed at the face before goes on where this one is to go with it."""
    units, more = state.job.units, told.get("more", "") == "1"
    before = params.listed_ids("faces") if more else []
    across = told.get("across", "") if told.get("across", "") in (*sections.AXES, sections.OTHER) else "Z"
    box = state.job.part.faces[face]["box"]
    place = point or [(box[k] + box[k + 3]) / 2 for k in range(3)]
    through = told.get("through") if more and told.get("through") else ",".join(f"{v:.6f}" for v in place)
    faces, every = tuple(dict.fromkeys([*before, face])), told.get("every") or length_text(EVERY_MM, units)
    direction = (told.get("i", ""), told.get("j", ""), told.get("k", ""))
    return SectionForm(faces, across, direction, through or "", told.get("at", "") if more else "", every, more)


def _asked(session: Session, job_id: int) -> sections.SectionAsked:
    return sections.SectionAsked.typed(params.listed_ids("faces"), request.form, stored(session, Job, job_id).units)


@blueprint.post("/look")
@changes
def look(job_id: int):
    """The section that would be planned, in words and as lines for the stage; nothing is stored."""
    with transaction() as session:
        wanted = _asked(session, job_id)
        found, units = sections.sections_of(session, job_id, wanted), stored(session, Job, job_id).units
        told = [(length_text(s.length, units), len(s.targets(wanted.every_mm))) for s in found]
        lines = [s.points.round(3).tolist() for s in found]
        return render_template("_section.html", told=told, lines=lines)


@blueprint.post("/plan")
@changes
def plan(job_id: int):
    with transaction() as session:
        wanted = _asked(session, job_id)
    sections.plan_sections(g.actor, job_id, wanted, request.form.get("stem", ""))
    return go_on(job_id, "part")


@blueprint.post("/listed")
@changes
@takes(LIST_MB)
def plan_listed(job_id: int):
    """One curve through the points of a list."""
    sections.plan_listed_curve(g.actor, job_id, request.form.get("text", ""), request.form.get("list_units", ""), request.form)
    return go_on(job_id, "part")
