"""Scans that come as files of points: sent, watched while they are read, and forgotten."""

from __future__ import annotations

import io
from typing import cast

from flask import Blueprint, g, render_template, request

from ...core.errors import InputError
from ...core.units import Units, length_from_text
from ...exchange.clouds.reading import Seen
from ...jobs.measure import point_files
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..doors import changes, reads
from ..sizes import takes

blueprint = Blueprint("point_files", __name__, url_prefix="/jobs/<int:job_id>/point-files")


@blueprint.get("")
@reads
def form(job_id: int):
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        stations = [(station.id, station.name) for station in state.kit.stations.values()]
        return render_template("_point_file.html", job_id=job_id, job=state.job, stations=stations, **_files(session, job_id))


@blueprint.get("/files")
@reads
def files(job_id: int):
    """Those that are being read, or could not be."""
    with snapshot() as session:
        stored(session, Job, job_id)
        return render_template("_point_files.html", job_id=job_id, **_files(session, job_id))


@blueprint.post("")
@changes
@takes(point_files.LARGEST_MB)
def bring(job_id: int):
    with transaction() as session:
        units = stored(session, Job, job_id).units
    file = request.files.get("file")
    name, stream = ((file.filename or ""), file.stream) if file else ("", io.BytesIO())
    point_files.bring(g.actor, job_id, name, stream, _typed(units))
    return files(job_id)


@blueprint.post("/<int:file_id>/forget")
@changes
def forget(job_id: int, file_id: int):
    point_files.forget(g.actor, job_id, file_id)
    return files(job_id)


def _files(session, job_id: int) -> dict:
    found = point_files.of_job(session, job_id)
    return {"files": found, "reading": any(each.state == "reading" for each in found)}


def _typed(units: Units) -> point_files.TypedFile:
    form, place = request.form, None
    seen = form.get("seen", "file")
    if seen == "place":
        x, y, z = (length_from_text(form.get(axis, ""), units, f"{axis.upper()} of where it was seen from") for axis in "xyz")
        place = (x, y, z)
    u_mm = length_from_text(form.get("u", ""), units, "how sure one point is")
    station = params.one_id("station")
    if seen not in ("file", "place", "round"):
        raise InputError("From where it was seen is not said.", "Nothing was kept.", "Choose it.")
    return point_files.TypedFile(form.get("unit", ""), u_mm, cast(Seen, seen), place, station)
