"""The present instruction for a detail as HTML: for the fitter's page and its live events."""

from __future__ import annotations

from flask import render_template

from ...jobs.place.details import PlacedDetail
from ...jobs.place.details_text import detail_text
from ...jobs.state.results import JobResults


def now_html(state: JobResults, now: PlacedDetail) -> str:
    """The present instruction for a detail, as HTML."""
    return render_template("_fitter_now.html", d=detail_text(state, now))
