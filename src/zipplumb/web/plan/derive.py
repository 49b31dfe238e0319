"""Derive: what does that make?"""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.deriving import Given
from ...core.errors import PlumbError
from ...core.sheet import RowResult
from ...core.units import Units, length_from_text, quantity_text, sentence_in, whole_number
from ...exchange.symbols import SYMBOL_OF
from ...jobs.measure import chain
from ...jobs.plan import derive
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot, stored, transaction
from ...store.models import Job
from .. import params
from ..answers import done, seen, seen_now
from ..doors import changes, reads
from ..stages import shows
from ..view import JobView, polylines
from .forms import kinds_to_plan

blueprint = Blueprint("derive", __name__, url_prefix="/jobs/<int:job_id>")
GIVEN = (("offset", "Offset"), ("height", "Height"), ("diameter", "Diameter"))


def is_found(result: RowResult) -> bool:
    return result.feature is not None and result.feature.feature is not None


@shows("derive")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    features = [
        (row.id, row.recipe.name + ("" if there else " (not measured)"), there)
        for row in state.rows
        if row.recipe.role == "feature"
        for there in (is_found(state.results[row.id]),)
    ]
    ways, now = chain.WAYS.items(), chain.Chain.of_job(state.job)
    kinds = kinds_to_plan("tolerance")
    return render_template("_derive.html", view=view, features=features, given=GIVEN, kinds=kinds, ways=ways, now=now)


@blueprint.post("/chain")
@changes
def as_one_goes(job_id: int):
    """Whether, and how, dimensions follow the features that are measured."""
    return seen_now("way", chain.set_way(g.actor, job_id, request.form.get("way", "?"), seen()))


def _chosen(values) -> list[int]:
    """Rows that were chosen, in the order of the sheet, or of ``order``."""
    return [row for text in values.getlist("of") if (row := whole_number(text)) is not None]


def _given(values, units: Units) -> Given:
    def typed(name: str, words: str) -> float | None:
        text = values.get(name, "").strip()
        return length_from_text(text, units, f"the {words.lower()}") if text else None

    return Given(*(typed(name, words) for name, words in GIVEN))


def _units(job_id: int) -> Units:
    with transaction() as session:
        return stored(session, Job, job_id).units


@blueprint.get("/choices")
@reads
def choices(job_id: int):
    """Everything that the chosen features can make, each with its value."""
    of = _chosen(request.args)
    if not of:
        return render_template("_choices.html", of=of, choices=[], remark="Choose one, two or more features.")
    units = _units(job_id)
    try:
        zone_mm = params.zone(units)
        found = derive.choices(job_id, of, _given(request.args, units), zone_mm)
    except PlumbError as error:
        return render_template("_choices.html", of=of, choices=[], remark=str(error))
    shown = [
        {
            "key": c.key,
            "words": c.words,
            "value": quantity_text(c.value, "rad" if c.unit == "rad" else "mm", units) if c.value is not None else "",
            "U": quantity_text(c.U, "rad" if c.unit == "rad" else "mm", units) if c.U is not None else "",
            "gives": "" if c.unit or c.why_not else c.gives,
            "why_not": sentence_in(c.why_not, units),
            "word": c.word,
            "shape": SYMBOL_OF.get(c.word, ""),
            "wants_zone": c.takes_zone and zone_mm is None,
            "drawn": polylines(c.draw) if c.draw is not None else None,
        }
        for c in found
    ]
    with snapshot() as session:
        state = as_it_stands(session, job_id)
    faces = [face for i in of if (face := state.row(i).recipe.cad_face) is not None]
    return render_template(
        "_choices.html",
        of=of,
        choices=shown,
        remark="" if shown else "Nothing can be made of these.",
        job_id=job_id,
        faces=faces,
    )


@blueprint.post("/derived")
@changes
def plan(job_id: int):
    units = _units(job_id)
    derive.plan(
        g.actor, job_id, request.form.get("key", ""), _chosen(request.form), _given(request.form, units),
        params.zone(units),
    )  # fmt: skip
    return done()
