"""What a scan has: the holes and slots of a face, and the surface at a place; seen first, then made rows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, g, render_template, request

from ...core.deriving.drawing import drawn
from ...core.errors import InputError
from ...core.frames import Array
from ...core.units import length_text
from ...jobs.measure import openings, scan_sections, surfaces
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot
from .. import params
from ..answers import go_on
from ..doors import changes, reads

blueprint = Blueprint("in_scans", __name__, url_prefix="/jobs/<int:job_id>/scans/<int:row_id>")
ON_OUTLINE = 48  # places along the line of a hole, as it is shown
MARKED = 300  # points of a surface
THICK_MM = 1.0  # to either side of a section


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
    here = state.drawn_from_world
    told = []
    for number, each in enumerate(found.each, start=1):
        shape = each.shape.moved(here)
        line = drawn(shape, 0.0).places(ON_OUTLINE)
        label = {"at": shape.center.tolist(), "text": str(number), "className": "small"}
        told.append(HoleShown(openings.words_of(each, state.job.units), label, np.round([*line, line[0]], 3).tolist()))
    return told


def _place() -> Array:
    place = np.array(params.numbers("at", 3))
    if not np.all(np.abs(place) <= params.MOST_MM):
        raise InputError("So far out nothing was scanned.", "Nothing was planned.", "Click on points of the scan.")
    return place


@blueprint.get("/surface")
@reads
def surface(job_id: int, row_id: int):
    """What the scan has at a place, before it is made a row."""
    place = _place()
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found = surfaces.find(state, row_id, place)
        each = [(one.kind, surfaces.words_of(found, one, state.job.units)) for one in found.each]
        here, marked = state.drawn_from_world, np.empty((0, 3))
        if found.each:
            mine = found.each[0].members
            marked = here.points(found.points[mine[:: max(1, len(mine) // MARKED)]])
        at = ",".join(f"{v:.5f}" for v in place)
        return render_template(
            "_surface.html",
            each=each,
            seen=found.seen,
            at=at,
            marked=marked.round(3).tolist(),
            across=scan_sections.names_across(state),
            job_id=job_id,
            row_id=row_id,
            thick=length_text(THICK_MM, state.job.units),
        )


@blueprint.post("/surface")
@changes
def plan_surface(job_id: int, row_id: int):
    kind, seen, stem = (request.form.get(name, "") for name in ("kind", "seen", "stem"))
    surfaces.plan(g.actor, job_id, row_id, _place(), kind, seen, stem)
    return go_on(job_id, "measure")
