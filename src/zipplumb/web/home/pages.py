"""The jobs, and beginning a new one from a CAD file."""

from __future__ import annotations

import io

from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy import select

from ...jobs.plan import parts
from ...jobs.plan.parts import LARGEST_MB
from ...jobs.plan.sheet import create_job, create_job_without_cad, measured_so_far
from ...store.database import transaction
from ...store.models import Job, Part
from .. import params
from ..doors import changes, reads
from ..sizes import takes

blueprint = Blueprint("home", __name__)


@blueprint.get("/")
@reads
def jobs():
    with transaction() as session:
        measured = measured_so_far(session)
        listed = session.execute(select(Job, Part.name).join(Part, Part.id == Job.part_id).order_by(Job.id))
        found = [(job, part, *measured.get(job.id, (0, 0))) for job, part in listed]
        waiting = session.scalars(
            select(Part).where(~select(Job.id).where(Job.part_id == Part.id).exists()).order_by(Part.id.desc())
        ).all()
    return render_template("jobs.html", jobs=found, waiting=waiting)


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
