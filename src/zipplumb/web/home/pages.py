"""The jobs, and beginning a new one from a CAD file."""

from __future__ import annotations

import io
from typing import NamedTuple

from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy import select

from ...core.units import whole_number
from ...jobs.pieces.another import copy_plan as copy_plan_of
from ...jobs.plan import catalogue, parts
from ...jobs.plan.parts import LARGEST_MB
from ...jobs.plan.sheet import create_job, create_job_without_cad
from ...store.database import snapshot, transaction
from ...store.models import Job, Part
from .. import params
from ..doors import administers, changes, reads
from ..sizes import takes

blueprint = Blueprint("home", __name__)
MOST_JOBS = 1_000_000


class JobsAsked(NamedTuple):
    search: str
    shown: str
    order: str
    after: int


@blueprint.get("/")
@reads
def jobs():
    values = request.args
    asked = JobsAsked(
        values.get("search", "")[: catalogue.LONGEST_SEARCH], values.get("shown", ""), values.get("order", ""),
        whole_number(values.get("after", "").strip() or "0", MOST_JOBS) or 0,
    )  # fmt: skip
    shown = list(catalogue.SHOWN.items())
    if g.actor.role == "administrator":
        shown.append((catalogue.REMOVED, "removed"))
    with snapshot() as session:
        found = catalogue.jobs_there(session, g.actor, asked.search, asked.shown, asked.order, asked.after)
        waiting = session.scalars(
            select(Part).where(~select(Job.id).where(Job.part_id == Part.id).exists()).order_by(Part.id.desc())
        ).all()
    return render_template(
        "jobs.html", catalogue=found, waiting=waiting if not asked.after else [], asked=asked, shown=shown,
        orders=catalogue.ORDERS.items(),
    )  # fmt: skip


@blueprint.post("/jobs/<int:job_id>/copy-plan")
@changes
def copy_plan(job_id: int):
    """A job of its own by the plan of this one."""
    made = copy_plan_of(g.actor, job_id, request.form.get("called", ""))
    return redirect(url_for("job.page", job_id=made, stage="measure"))


@blueprint.post("/jobs/<int:job_id>/put-away")
@changes
def put_away(job_id: int):
    """Out of the list, or into it again."""
    catalogue.put_away(g.actor, job_id, bool(request.form.get("away")))
    return redirect(url_for("home.jobs"))


@blueprint.post("/jobs/<int:job_id>/remove-job")
@changes
def remove_job(job_id: int):
    catalogue.remove(g.actor, job_id)
    return redirect(url_for("home.jobs"))


@blueprint.post("/jobs/<int:job_id>/bring-back")
@administers
def bring_back(job_id: int):
    catalogue.bring_back(g.actor, job_id)
    return redirect(url_for("home.jobs"))


@blueprint.post("/parts")
@changes
@takes(LARGEST_MB)
def upload():
    g.actor.must_change()
    file = request.files.get("file")
    part_id = parts.add_part(
        g.actor,
        request.form.get("name", ""),
        (file.filename or "") if file else "",
        file.stream if file else io.BytesIO(),
        request.form.get("units", "mm"),
    )
    return redirect(url_for("home.part", part_id=part_id))


def _part(part_id: int) -> Part:
    from werkzeug.exceptions import NotFound

    with transaction() as session:
        found = session.get(Part, part_id)
    if found is None:
        raise NotFound()
    return found


@blueprint.get("/parts/<int:part_id>")
@reads
def part(part_id: int):
    return render_template("import.html", part=_part(part_id))


@blueprint.get("/parts/<int:part_id>/progress")
@reads
def progress(part_id: int):
    return render_template("_import.html", part=_part(part_id))


@blueprint.post("/parts/<int:part_id>/job")
@changes
def new_job(part_id: int):
    job_id = create_job(g.actor, request.form.get("name", ""), part_id, params.ids("body"))
    return redirect(url_for("job.page", job_id=job_id, stage="part"))


@blueprint.post("/jobs")
@changes
def new_job_without_cad():
    job_id = create_job_without_cad(g.actor, request.form.get("name", ""))
    return redirect(url_for("job.page", job_id=job_id, stage="part"))


@blueprint.post("/parts/<int:part_id>/stop")
@changes
def stop(part_id: int):
    parts.stop_import(g.actor, part_id)
    return redirect(url_for("home.part", part_id=part_id))


@blueprint.post("/parts/<int:part_id>/remove")
@changes
def remove(part_id: int):
    parts.remove_part(g.actor, part_id)
    return redirect(url_for("home.jobs"))
