"""Forms of rows: one template draws the form of any kind from its fields, to plan a row or to edit one."""

from __future__ import annotations

from flask import render_template, request
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.sheet import KINDS
from ...jobs.plan.form_parts import FormField, Rows
from ...jobs.plan.forms import fields_of, texts_of
from ...jobs.state.results import JobResults
from ...jobs.words import WORDS
from ...store.models import Station


def nameable(session: Session, state: JobResults) -> Rows:
    """Rows and stations that a form may name, with their words."""
    found: dict[str, list[tuple[str, str]]] = {"feature": [], "system": [], "station": []}
    for number, row in enumerate(state.rows, start=1):
        found.setdefault(row.recipe.role, []).append((str(row.id), f"{number} {row.recipe.name}"))
    stations = session.scalars(select(Station).where(Station.job_id == state.job.id).order_by(Station.id))
    found["station"] = [(str(s.id), s.name) for s in stations]
    return found


def kinds_to_plan(*roles: str, takes_hits: bool | None = None) -> list[tuple[str, str]]:
    """Kinds of some roles, by their words."""
    found = [
        (key, WORDS[key].noun)
        for key, kind in KINDS.items()
        if kind.typed and kind.role in roles and takes_hits in (None, kind.takes_hits)
    ]
    return sorted(found, key=lambda pair: pair[1])


def typed_texts() -> dict[str, str]:
    """Typed texts, with one more item of a list where that was asked for."""
    texts = {k: v for k, v in request.form.items() if k not in ("csrf_token", "more", "kind", "seen")}
    more = request.form.get("more", "")
    if more:
        path, _, number = more.rpartition("#")
        texts[f"{path}.{number}"] = ""
    return texts


def plan_form(session: Session, state: JobResults, kind: str, texts: dict[str, str]) -> str:
    """The form of a kind, with what is typed already."""
    fields = fields_of(kind, texts, state.job.units, nameable(session, state))
    return render_template(
        "_plan_form.html",
        fields=fields,
        kind=kind,
        noun=WORDS[kind].noun,
        job_id=state.job.id,
        system=KINDS[kind].role == "system",
    )


def row_fields(session: Session, state: JobResults, row_id: int, texts: dict[str, str] | None = None) -> tuple[FormField, ...]:
    """The fields of a row's form: as it is, or with what was typed."""
    recipe, available = state.row(row_id).recipe, state.available(row_id)
    filled = texts if texts is not None else texts_of(recipe, state.job.units, available)
    kind = recipe.kind
    return fields_of(kind, filled, state.job.units, nameable(session, state), available, recipe)
