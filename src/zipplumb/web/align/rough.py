"""The page of a rough fit: places are clicked on the stage, and what each of them adds is said."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...jobs.align import rough
from ...jobs.align.alignment_text import freedom_texts, six_of
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import transaction
from .. import params
from ..answers import go_on
from ..doors import changes

blueprint = Blueprint("rough", __name__, url_prefix="/jobs/<int:job_id>/rough")


def rough_page(session: Session, state: JobResults) -> str:
    return _page(state, ())


def _page(state: JobResults, picks: tuple[rough.Pick, ...]) -> str:
    found = rough.looked_at(state, picks)
    shown = [{"at": list(p.point), "text": str(k + 1)} for k, p in enumerate(found.picks)]
    return render_template(
        "_rough.html",
        found=found,
        text=rough.text_of(found.picks),
        better=None if found.better is None else rough.text_of([found.better]),
        shown=shown,
        sways=[] if found.ledger is None else [six_of(loose.motion) for loose in found.ledger.loose],
        drawn=() if found.ledger is None else freedom_texts(found.ledger, state.job.units),
        job=state.job,
    )


@blueprint.post("/picks")
@changes
def pick(job_id: int):
    """One more place, or one less; nothing is kept."""
    picks = rough.picks_from(request.form.get("picks", ""))
    if request.form.get("point"):
        x, y, z = params.numbers("point", 3)
        i, j, k = params.numbers("normal", 3)
        picks = (*picks, *rough.picks_from(f"{x},{y},{z},{i},{j},{k}"))
    if (last := params.one_id("without")) is not None:
        picks = tuple(p for number, p in enumerate(picks, start=1) if number != last)
    if request.form.get("better") and len(picks) < rough.MOST:
        picks = (*picks, *rough.picks_from(request.form["better"]))
    with transaction() as session:
        return _page(as_it_stands(session, job_id), picks)


@blueprint.post("")
@changes
def plan(job_id: int):
    rough.plan(g.actor, job_id, rough.picks_from(request.form.get("picks", "")))
    return go_on(job_id, "measure")


@blueprint.post("/proof")
@changes
def proof(job_id: int):
    """The live check: proof points anywhere on the part."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        there = next((row.id for row in state.measured if row.recipe.rests_on_surfaces), None)
    rough.plan_proof(g.actor, job_id, there)
    return go_on(job_id, "measure")
