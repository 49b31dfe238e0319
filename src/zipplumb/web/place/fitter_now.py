"""What is to be done at a detail now, as HTML: for the fitter's page, and for what it hears afterwards."""

from __future__ import annotations

from flask import render_template

from ...jobs.place.details import PlacedDetail
from ...jobs.place.details_text import detail_text
from ...jobs.state.results import JobResults


def now_html(state: JobResults, now: PlacedDetail) -> str:
    """What is to be done at a detail now."""
    return render_template("_fitter_now.html", d=detail_text(state, now))
