"""Pieces: which there are, what the plan of each has otherwise, and each characteristic over all of them."""

from __future__ import annotations

from flask import Blueprint, g, redirect, render_template, request, url_for
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...jobs.kit import stations
from ...jobs.outcomes.measured_with import measured_with
from ...jobs.outcomes.over import Together, judged_first, pieces_of, together
from ...jobs.outcomes.told import runs_told
from ...jobs.pieces import another, carrying_over
from ...jobs.plan import catalogue
from ...jobs.report import making
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot, transaction
from ...store.models import Job
from .. import params
from ..doors import changes, reads
from ..stages import STAGES

blueprint = Blueprint("pieces", __name__, url_prefix="/jobs/<int:job_id>/pieces")
SHOWN, LONGEST_SEARCH = 40, 80  # characteristics with a chart at once
MADE = 6
FORMATS = tuple((key, making.FORMATS[key].words) for key in ("pdf", "xlsx", "csv"))
WHAT_WORDS = {"new": "new", "gone": "taken off", "changed": "changed"}


@blueprint.get("")
@reads
def page(job_id: int):
    with transaction() as session:  # in which the worker is asked for what is not known yet
        piece = _piece(session, job_id)
        found = together(session, job_id)
        offered = carrying_over.offered(session, piece)
        state = as_it_stands(session, job_id)
        made = making.made_of(session, state, MADE)
        return render_template(
            "pieces.html", job=piece, offered=offered, made=made, instrument=state.instrument,
            finished=carrying_over.is_finished(state), whats=WHAT_WORDS, formats=FORMATS,
            stages=STAGES, called=next((each.called for each in found.pieces if each.id == job_id), ""), job_id=job_id,
            **_over(session, found, piece),
        )  # fmt: skip


@blueprint.get("/over")
@reads
def over(job_id: int):
    """The characteristics over the pieces, which are looked at again while something of them is worked out."""
    with transaction() as session:
        piece = _piece(session, job_id)
        found = together(session, job_id)
        return render_template("_over.html", job=piece, job_id=job_id, **_over(session, found, piece))


def _piece(session: Session, job_id: int) -> Job:
    piece = session.get(Job, job_id)
    if piece is None:
        raise NotFound()
    return piece


def _over(session: Session, found: Together, piece: Job) -> dict:
    search = request.args.get("search", "").strip()[:LONGEST_SEARCH]
    every = request.args.get("every", "") == "1"
    chosen = [
        each for each in judged_first(found.characteristics)
        if (every or each.judged) and search.casefold() in f"{each.name} {each.label}".casefold()
    ]  # fmt: skip
    runs = runs_told(found.with_only(chosen[:SHOWN]), piece.units)
    with_what = measured_with(session, [each.id for each in found.pieces])
    return {
        "found": found,
        "with_what": with_what,
        "runs": runs,
        "more": max(len(chosen) - SHOWN, 0),
        "search": search,
        "every": every,
    }


@blueprint.post("")
@changes
def begin(job_id: int):
    """Another piece by the plan of this one; the instrument comes along where that is wanted."""
    form = request.form
    made = another.measure_another(g.actor, job_id, form.get("serial", ""), form.get("identity", ""))
    if instrument := params.one_id("along"):
        stations.bring(g.actor, made, instrument)
    return "", 200, {"HX-Redirect": url_for("job.page", job_id=made, stage="measure")}


@blueprint.post("/name")
@changes
def name(job_id: int):
    another.name_piece(g.actor, job_id, request.form.get("serial", ""), request.form.get("identity", ""))
    return _again()


@blueprint.post("/offer")
@changes
def offer(job_id: int):
    carrying_over.offer(g.actor, job_id)
    return _again()


@blueprint.post("/take-over")
@changes
def take_over(job_id: int):
    """What is chosen of the changes of the plan; the rest is left."""
    keys = list(map(_key, request.form.getlist("key"))) if request.form.get("do") == "take" else []
    carrying_over.take_over(g.actor, job_id, keys, request.form.get("seen", ""))
    return _again()


def _key(text: str) -> int:
    return int(text) if text.isdecimal() and len(text) < 11 else -1  # which is none of those offered


@blueprint.post("/remove")
@changes
def remove(job_id: int):
    """One piece alone."""
    with snapshot() as session:
        others = [each.id for each in pieces_of(session, job_id) if each.id != job_id]
    catalogue.remove(g.actor, job_id, piece_alone=True)
    to = url_for("pieces.page", job_id=others[-1]) if others else url_for("home.jobs")
    return "", 200, {"HX-Redirect": to}


@blueprint.post("/report")
@reads
def report(job_id: int):
    """A file over all pieces, of the report that is for that; it is begun where there is none."""
    making.ask_over_pieces(g.actor, job_id, request.form.get("kind", ""))
    return redirect(url_for("report.reports", job_id=job_id), 303)


def _again():
    return "", 200, {"HX-Refresh": "true"}
