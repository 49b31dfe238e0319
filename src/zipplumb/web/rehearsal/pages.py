"""Where to stand, before the instrument is carried there."""

from __future__ import annotations

from flask import Blueprint, render_template, request

from ...core.errors import InputError
from ...core.units import coarse_text, length_from_text, length_text
from ...jobs import rehearsal
from ...jobs.kit import instruments
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot
from .. import params
from ..doors import changes, reads
from ..view import JobView

blueprint = Blueprint("rehearsal", __name__, url_prefix="/jobs/<int:job_id>/rehearsal")
NAMES = "AB"
FAR_MM, HIGH_MM = 2500.0, 1500.0


@blueprint.get("")
@reads
def form(job_id: int):
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        units = state.job.units
        return render_template(
            "_rehearsal.html", view=JobView.of(state), instruments=instruments.instruments(), names=NAMES,
            far=length_text(FAR_MM, units), high=length_text(HIGH_MM, units),
        )  # fmt: skip


@blueprint.post("/look")
@changes
def look(job_id: int):
    """Visible rows from one or two typed positions, with their expected uncertainty."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        stands = {name: rehearsal.stand_from(_typed(name), state.job, f"place {name}") for name in NAMES}
        if not any(stand is not None for stand in stands.values()):
            raise InputError(
                "No place was typed.", rehearsal.NOTHING_KEPT, "Type X, Y and Z of place A, or have some proposed."
            )
        here = rehearsal.rehearsal_of(session, state, params.one_id("instrument") or 0)
        return _shown(here, [here.plan(name, stand) for name, stand in stands.items() if stand is not None])


def _typed(name: str) -> list[str]:
    return [request.form.get(f"{name}.{axis}", "")[:40] for axis in "XYZ"]


@blueprint.post("/propose")
@changes
def propose(job_id: int):
    """The two best of some places round the part."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        units = state.job.units
        far = length_from_text(request.form.get("far", "")[:40], units, "how far off")
        high = length_from_text(request.form.get("high", "")[:40], units, "how high")
        if not 0 < far < 1e5 or abs(high) > 1e5:
            raise InputError("Nobody stands so far off.", rehearsal.NOTHING_KEPT, "Type how far from the part, and how high.")
        here = rehearsal.rehearsal_of(session, state, params.one_id("instrument") or 0)
        return _shown(here, here.proposed(far, high, NAMES))


def _shown(here: rehearsal.Rehearsal, plans: list[rehearsal.RehearsalPlan]) -> str:
    units = here.state.job.units
    at = {plan.name: [coarse_text(v, units) for v in plan.place] for plan in plans}
    best = max(plans, key=lambda plan: (plan.whole, -plan.mean_u_mm)).name if len(plans) > 1 else ""
    details = {number: recipe.name for number, recipe in here.details.items()}
    # a stroke up and two across where it would stand
    marks = [
        [(plan.place + step).tolist(), (plan.place - step).tolist()]
        for plan in plans for step in ([[0, 0, 150.0], [150.0, 0, 0], [0, 150.0, 0]])
    ]  # fmt: skip
    return render_template(
        "_rehearsed.html", here=here, plans=plans, at=at, best=best, details=details, marks=marks,
        total=len(here.touched),
    )  # fmt: skip
