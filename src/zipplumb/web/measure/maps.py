"""Maps of how far a scan lies off the CAD: planned, drawn, asked at a place, pinned."""

from __future__ import annotations

from io import BytesIO

import numpy as np
from flask import Blueprint, Response, g, render_template, request, send_file

from ...core.errors import InputError
from ...core.units import Units, length_from_text
from ...jobs.measure import map_limits, maps
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done
from ..doors import changes, reads
from ..job.slip import go_on_with

blueprint = Blueprint("maps", __name__, url_prefix="/jobs/<int:job_id>/maps/<int:row_id>")
FARTHEST_MM = 100.0


@blueprint.post("/plan")
@changes
def plan(job_id: int, row_id: int):
    """Of the scan ``row_id``."""
    units = _units(job_id)
    reach = length_from_text(request.form.get("reach", ""), units, "how far off it may lie")
    if not 0 < reach <= FARTHEST_MM:
        raise InputError("So far off it is not of the part.", "Nothing was planned.", f"Type up to {FARTHEST_MM:.0f} mm.")
    row = maps.plan(g.actor, job_id, row_id, reach, _limits(units))
    return go_on_with(job_id, row)


@blueprint.post("/touched")
@changes
def touched(job_id: int, row_id: int):
    """Of the hits of the row ``row_id``, or of all rows that are touched on the CAD."""
    limits, of = _limits(_units(job_id)), [row_id]
    if request.form.get("of") == "all":
        with snapshot() as session:
            of = [row.id for row in maps.may_be_mapped(as_it_stands(session, job_id)) if row.finished]
    return go_on_with(job_id, maps.plan_touched(g.actor, job_id, of, limits))


@blueprint.post("/compare")
@changes
def compare(job_id: int, row_id: int):
    """The map ``row_id`` with another, which was made first."""
    limits, first = _limits(_units(job_id)), params.one_id("first")
    if first is None:
        raise InputError("Two maps are compared.", "Nothing was planned.", "Choose the other one.")
    return go_on_with(job_id, maps.compare(g.actor, job_id, row_id, first, limits))


def _units(job_id: int) -> Units:
    with transaction() as session:
        return stored(session, Job, job_id).units


def _limits(units: Units) -> maps.TypedLimits:
    texts = {name: request.form.get(name, "").strip() for name in ("lower", "upper")}
    limits = {name: length_from_text(text, units, f"the {name} limit") if text else None for name, text in texts.items()}
    if any(limit is not None and abs(limit) > FARTHEST_MM for limit in limits.values()):
        raise InputError("Such a limit judges nothing.", "Nothing was planned.", f"Type up to {FARTHEST_MM:.0f} mm.")
    return maps.TypedLimits(limits["lower"], limits["upper"])


@blueprint.get("/places")
@reads
def places(job_id: int, row_id: int):
    """Packed float32: place, deviation, facing (docs/formats.md)."""
    with snapshot() as session:
        found, size = maps.drawn_of(as_it_stands(session, job_id), row_id)
    headers = {"X-Last": "0", "X-Placed": "part", "X-Size": f"{size:.4g}"}
    return Response(found.tobytes(), mimetype="application/octet-stream", headers=headers)


@blueprint.get("/file/<suffix>")
@reads
def file(job_id: int, row_id: int, suffix: str):
    """What was seen, as a file for other programs (docs/formats.md)."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        data, name = maps.file_of(state, row_id, suffix), state.row(row_id).recipe.name
    return send_file(BytesIO(data), "application/octet-stream", as_attachment=True, download_name=f"{name}.{suffix}")


@blueprint.get("/at")
@reads
def at(job_id: int, row_id: int):
    """What it says at a place."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        told = maps.told_at(state, row_id, _place())
        units = state.job.units
    place = ",".join(f"{v:.4f}" for v in told.at)
    return render_template("_at_place.html", told=told, place=place, job_id=job_id, row_id=row_id, units=units)


@blueprint.get("/under")
@reads
def under(job_id: int, row_id: int):
    """The same beside the pointer; nothing where nothing was seen."""
    with snapshot() as session:
        told = maps.told_near(as_it_stands(session, job_id), row_id, np.array(params.numbers("point", 3)))
    return Response("" if told is None else told.words, mimetype="text/plain")


@blueprint.post("/pin")
@changes
def pin(job_id: int, row_id: int):
    maps.pin(g.actor, job_id, row_id, _place())
    return done()


@blueprint.post("/pins")
@changes
def pins(job_id: int, row_id: int):
    maps.pin_worst(g.actor, job_id, row_id)
    return done()


@blueprint.post("/face/<int:face>")
@changes
def limit_face(job_id: int, row_id: int, face: int):
    """What is asked of one face."""
    map_limits.of_face(g.actor, job_id, row_id, face, _limits(_units(job_id)))
    return done()


@blueprint.post("/profiles")
@changes
def limit_by_profiles(job_id: int, row_id: int):
    """What is asked of the faces, as the profiles on the model say."""
    map_limits.by_profiles(g.actor, job_id, row_id)
    return done()


def _place() -> np.ndarray:
    return np.array(params.numbers("at", 3))
