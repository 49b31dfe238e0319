"""Sections through a scan: planned, and what is measured in them."""

from __future__ import annotations

import numpy as np
from flask import Blueprint, g, request

from ...core.errors import InputError
from ...core.units import length_from_text, whole_number
from ...jobs.measure import scan_sections
from ...store.database import stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done
from ..doors import changes
from ..job.slip import go_on_with

blueprint = Blueprint("scan_sections", __name__, url_prefix="/jobs/<int:job_id>/sections/<int:row_id>")
WIDEST_MM = 100.0


@blueprint.post("/plan")
@changes
def plan(job_id: int, row_id: int):
    """Of the scan ``row_id``."""
    with transaction() as session:
        units = stored(session, Job, job_id).units
    form = request.form
    many = form.get("count", "").strip() or "1"
    count = whole_number(many, scan_sections.MOST_SECTIONS)
    if count is None:
        raise InputError(f"“{many[:20]}” is not a number of sections.", "Nothing was planned.", "Type 1, or more.")
    apart = length_from_text(form["apart"], units, "how far they stand apart") if form.get("apart", "").strip() else 0.0
    zone = length_from_text(form["zone"], units, "the zone") if form.get("zone", "").strip() else None
    if zone is not None and not 0 < zone <= WIDEST_MM:
        raise InputError("Such a zone judges nothing.", "Nothing was planned.", f"Type up to {WIDEST_MM:.0f} mm.")
    axis = form.get("axis", "")
    through = np.array(params.numbers("through", 3)) if form.get("through") else None
    if through is not None and not (np.abs(through) <= params.MOST_MM).all():
        raise InputError("So far out nothing was scanned.", "Nothing was planned.", "Click on the scan.")
    at = 0.0 if through is not None else length_from_text(form.get("at", ""), units, "where the plane stands")
    thick = length_from_text(form.get("thick", ""), units, "how near points are")
    asked = scan_sections.SectionsAsked(axis, at, through, count, apart, thick)
    rows = scan_sections.plan(g.actor, job_id, row_id, asked, zone)
    return go_on_with(job_id, rows[0])


@blueprint.post("/measure")
@changes
def measure(job_id: int, row_id: int):
    begin, end = (np.array(params.numbers(name, 3)) for name in ("begin", "end"))
    if not (np.abs([begin, end]) <= params.MOST_MM).all():
        raise InputError("So far out nothing was scanned.", "Nothing was planned.", "Click on the section.")
    scan_sections.measure(g.actor, job_id, row_id, request.form.get("kind", ""), begin, end)
    return done()
