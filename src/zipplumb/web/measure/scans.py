"""Scans: the points as they are drawn, what is cut away, and whose they are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import numpy as np
from flask import Blueprint, Response, g, render_template, request

from ...core.deriving.drawing import drawn
from ...core.errors import InputError
from ...core.frames import Array, Motion
from ...core.units import length_from_text, whole_number
from ...jobs.measure import clouds, openings
from ...jobs.measure.lacking import lacking_of
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done, go_on
from ..doors import changes, reads

blueprint = Blueprint("scans", __name__, url_prefix="/jobs/<int:job_id>/scans/<int:row_id>")
ON_OUTLINE = 48  # places along the line of a hole, as it is shown
SIDES = {"under": False, "above": True}


@blueprint.get("/points")
@reads
def points(job_id: int, row_id: int):
    """Packed float32: place and brightness of each (docs/formats.md); ``after``: of what was scanned since a reading."""
    if (after := request.args.get("after")) is not None:
        with snapshot() as session:
            state = as_it_stands(session, job_id)
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
        found = lacking_of(session, as_it_stands(session, job_id), row_id)
    told = {"X-Words": quote(found.words), "X-Enough": f"{found.enough}/{found.of}"}
    return Response(found.hatch.astype("<f4").tobytes(), mimetype="application/octet-stream", headers=told)


def _points(found: Array | None, state: JobResults, last: int = 0) -> Response:
    told = {"X-Last": str(last), "X-Placed": "world" if state.alignment is None else "part"}
    return Response(b"" if found is None else found.tobytes(), mimetype="application/octet-stream", headers=told)


def _typed(job_id: int) -> clouds.TypedCut:
    plane, side = params.one_id("plane"), request.values.get("side", "")
    if side not in SIDES:
        raise InputError("No side is chosen.", "Nothing was cut away.", "Choose on which side of the plane it cuts.")
    with transaction() as session:
        units = stored(session, Job, job_id).units
    offset = length_from_text(request.values.get("offset", "") or "0", units, "the distance")
    if not abs(offset) <= params.MOST_MM:
        raise InputError("So far out there is no part.", "Nothing was cut away.", "Type a smaller distance.")
    return clouds.TypedCut(plane, offset, SIDES[side])


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


@blueprint.get("/holes")
@reads
def holes(job_id: int, row_id: int):
    """Holes and slots that the scan has in a face, before any is made a row."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found = openings.find(state, row_id, params.one_id("plane"))
        return render_template("_holes.html", holes=_shown(state, found), seen=found.seen, job_id=job_id, row_id=row_id)


@blueprint.post("/holes")
@changes
def plan_holes(job_id: int, row_id: int):
    numbers, seen = params.ids("hole"), request.form.get("seen", "")
    openings.plan(g.actor, job_id, row_id, params.one_id("plane"), [n - 1 for n in numbers], seen, request.form.get("stem", ""))
    return go_on(job_id, "measure")


@dataclass(frozen=True)
class HoleShown:
    """What it is, in words; its ``label`` and ``line`` on the stage."""

    words: str
    label: dict[str, Any]
    line: list[list[float]]


def _shown(state: JobResults, found: openings.FoundOpenings) -> list[HoleShown]:
    here = Motion.identity() if state.alignment is None else state.alignment.part_from_world
    told = []
    for number, each in enumerate(found.each, start=1):
        shape = each.shape.moved(here)
        line = drawn(shape, 0.0).places(ON_OUTLINE)
        label = {"at": shape.center.tolist(), "text": str(number), "className": "small"}
        told.append(HoleShown(openings.words_of(each, state.job.units), label, np.round([*line, line[0]], 3).tolist()))
    return told


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
