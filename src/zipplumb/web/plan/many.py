"""Settings for many rows at once, looked at before they are made."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request

from ...jobs.plan import many
from ...jobs.state.results import JobResults, as_it_stands
from ...jobs.words import WORDS, words_for
from ...store.database import transaction
from .. import params
from ..answers import go_on
from ..doors import changes, reads
from ..view import JobView

blueprint = Blueprint("many", __name__, url_prefix="/jobs/<int:job_id>/many")


@blueprint.get("")
@reads
def form(job_id: int):
    with transaction() as session:
        state = as_it_stands(session, job_id)
        kinds = {row.recipe.kind: WORDS[row.recipe.kind].noun for row in state.rows}
        return render_template(
            "_many.html",
            view=JobView.of(state),
            rows=[(row.id, row.recipe.name, True) for row in state.rows],
            kinds=sorted(kinds.items(), key=lambda k: k[1]),
            keys=_characteristics(state),
            criteria=many.criteria(),
        )


def _characteristics(state: JobResults) -> list[tuple[str, str]]:
    """Every characteristic that a row of the sheet may be asked, by its words."""
    found: dict[str, str] = {}
    for row in state.rows:
        for key, _ in state.available(row.id):
            found.setdefault(key, words_for(row.recipe).label(row.recipe, key))
    return sorted(found.items(), key=lambda pair: pair[1])


@blueprint.post("/look")
@changes
def look(job_id: int):
    """Changes that would be made, and rows to which they cannot apply."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        found = many.changes(state, *_typed())
    numbers = {row.id: state.index_of(row.id) + 1 for row in state.rows}
    changed = sum(change.is_one for change in found)
    seen = many.seen_of(found)
    return render_template("_changes.html", found=found, numbers=numbers, changed=changed, seen=seen, job_id=job_id)


@blueprint.post("/set")
@changes
def set_them(job_id: int):
    many.set_many(g.actor, job_id, *_typed(), request.form.get("seen", ""))
    return go_on(job_id, "measure")


def _typed() -> tuple[many.RowChoice, many.Setting]:
    form = request.form
    choice = many.RowChoice(form.get("kind", ""), form.get("name", "")[:80], frozenset(params.ids("row")))
    texts = {name: form.get(f"set.{name}", "")[:200] for name in many.SETTINGS}
    return choice, many.Setting(texts, form.get("key", ""), form.get("lower", "")[:40], form.get("upper", "")[:40])
