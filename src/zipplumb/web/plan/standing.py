"""Rows, one or several that are chosen, taken off the sheet, brought back and put elsewhere."""

from __future__ import annotations

from flask import Blueprint, g
from werkzeug.exceptions import NotFound

from ...jobs.plan import standing
from .. import params
from ..answers import done, go_on, seen
from ..doors import changes

BY = {"up": -1, "down": 1}

blueprint = Blueprint("standing", __name__, url_prefix="/jobs/<int:job_id>/rows")


@blueprint.post("/remove")
@changes
def remove(job_id: int):
    standing.remove(g.actor, job_id, params.ids("row"), seen() or None)
    return go_on(job_id, "part")


@blueprint.post("/move/<direction>")
@changes
def move(job_id: int, direction: str):
    if direction not in BY:
        raise NotFound()
    standing.move(g.actor, job_id, params.ids("row"), BY[direction])
    return done()


@blueprint.post("/put")
@changes
def put(job_id: int):
    """Where they were dragged: before another row, or to the end."""
    standing.put(g.actor, job_id, params.ids("row"), params.one_id("before"))
    return done()


@blueprint.post("/<int:row_id>/bring-back")
@changes
def bring_back(job_id: int, row_id: int):
    standing.bring_back(g.actor, job_id, row_id)
    return go_on(job_id, "part")
