"""Scans: the points as they are drawn, what is cut away, and whose they are."""

from __future__ import annotations

from urllib.parse import quote

import numpy as np
from flask import Blueprint, Response, g, request
from numpy.typing import NDArray

from ...core.errors import InputError
from ...core.units import length_from_text, whole_number
from ...jobs.measure import clouds
from ...jobs.measure.lacking import lacking_of
from ...jobs.state.results import JobResults, as_it_stands, as_it_was
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done
from ..doors import changes, reads

blueprint = Blueprint("scans", __name__, url_prefix="/jobs/<int:job_id>/scans/<int:row_id>")
SIDES = {"under": False, "above": True}
SIDES_OF_A_RECTANGLE = 4


@blueprint.get("/points")
@reads
def points(job_id: int, row_id: int):
    """Packed float32: place, brightness, facing (docs/formats.md); ``after``: of what was scanned since a reading."""
    if (after := request.args.get("after")) is not None:
        with snapshot() as session:
            state = as_it_was(session, job_id, row_id)
            new, last = clouds.live_of(session, state, row_id, whole_number(after) or 0)
        return _points(new, state, last)
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found = clouds.drawn_of(session, state, row_id)
    return _points(found, state)


@blueprint.get("/lacking")
@reads
def lacking(job_id: int, row_id: int):
    """Packed float32, two ends of each stroke where light is lacking; in words in the header (docs/formats.md)."""
    with snapshot() as session:
        found = lacking_of(session, as_it_was(session, job_id, row_id), row_id)
    told = {"X-Words": quote(found.words), "X-Enough": f"{found.enough}/{found.of}"}
    return Response(found.hatch.astype("<f4").tobytes(), mimetype="application/octet-stream", headers=told)


def _points(found: NDArray[np.float32], state: JobResults, last: int = 0) -> Response:
    told = {"X-Last": str(last), "X-Placed": "world" if state.alignment is None else "part"}
    return Response(found.tobytes(), mimetype="application/octet-stream", headers=told)


def _typed(job_id: int) -> clouds.TypedCut:
    if "within" in request.values:
        with transaction() as session:
            units = stored(session, Job, job_id).units
        return clouds.ByCad(length_from_text(request.values["within"], units, "the distance off the CAD"))
    if "region" in request.values:
        if not request.values["region"].strip():
            raise InputError("No rectangle is drawn.", "Nothing was cut away.", "Tick the box, and draw it on the stage.")
        numbers = params.numbers("region", SIDES_OF_A_RECTANGLE * 6)
        return clouds.ByRectangle(np.reshape(numbers, (-1, 2, 3)), request.values.get("keeps") == "1")
    plane, side = params.one_id("plane"), request.values.get("side", "")
    if side not in SIDES:
        raise InputError("No side is chosen.", "Nothing was cut away.", "Choose on which side of the plane it cuts.")
    with transaction() as session:
        units = stored(session, Job, job_id).units
    offset = length_from_text(request.values.get("offset", "") or "0", units, "the distance")
    if not abs(offset) <= params.MOST_MM:
        raise InputError("So far out there is no part.", "Nothing was cut away.", "Type a smaller distance.")
    return clouds.ByPlane(plane, offset, SIDES[side])


@blueprint.get("/cut")
@reads
def would_cut(job_id: int, row_id: int):
    """In words, before it is done."""
    typed = _typed(job_id)
    with snapshot() as session:
        share = clouds.would_cut(session, as_it_stands(session, job_id), row_id, typed)
    if share is None:
        return "The scan is not worked out yet."
    return f"It would take away {100 * share:.1f} % of what is drawn."


@blueprint.post("/cut")
@changes
def cut(job_id: int, row_id: int):
    clouds.cut_away(g.actor, job_id, row_id, _typed(job_id))
    return done()


@blueprint.post("/cut/<int:number>/back")
@changes
def uncut(job_id: int, row_id: int, number: int):
    clouds.uncut(g.actor, job_id, row_id, number)
    return done()


@blueprint.post("/edges")
@changes
def only_edges(job_id: int, row_id: int):
    clouds.only_edges(g.actor, job_id, row_id, request.form.get("only") == "1")
    return done()


@blueprint.post("/give")
@changes
def give(job_id: int, row_id: int):
    clouds.give(g.actor, job_id, row_id, params.listed_ids("rows"))
    return done()


@blueprint.post("/back")
@changes
def take_back(job_id: int, row_id: int):
    clouds.take_back(g.actor, job_id, row_id)
    return done()
