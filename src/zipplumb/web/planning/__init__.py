"""Forms of rows: one template draws the form of any kind from its fields, to plan a row or to edit one."""

from __future__ import annotations

from flask import Blueprint, g, render_template, request
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...core.sheet import KINDS
from ...core.units import length_text
from ...exchange.point_list import text_of
from ...jobs import planning
from ...jobs.forms import FormField, Rows, fields_of, texts_of
from ...jobs.results import JobResults, as_it_stands
from ...jobs.words import WORDS
from ...store.database import transaction
from ...store.models import Station
from ..doors import changes, reads
from ..job import done, go_on

LINES_SHOWN = 200
EVERY_MM = 10.0  # of a curve through listed points

blueprint = Blueprint("planning", __name__, url_prefix="/jobs/<int:job_id>")


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
    """What was typed; with one more item of a list where that was asked."""
    texts = {k: v for k, v in request.form.items() if k not in ("csrf_token", "more", "kind", "seen")}
    more = request.form.get("more", "")
    if more:
        path, _, number = more.rpartition("#")
        texts[f"{path}.{number}"] = ""
    return texts


@blueprint.get("/plan")
@reads
def form(job_id: int):
    """The form of a kind, to be filled."""
    return _form(job_id, request.args.get("kind", ""), {})


@blueprint.post("/plan/form")
@changes
def refill(job_id: int):
    """The same form with what was typed, its choices followed, with one more item where asked."""
    return _form(job_id, request.form.get("kind", ""), typed_texts())


def _form(job_id: int, kind: str, texts: dict[str, str]):
    if kind not in KINDS:
        raise NotFound()
    with transaction() as session:
        return plan_form(session, as_it_stands(session, job_id), kind, texts)


def plan_form(session: Session, state: JobResults, kind: str, texts: dict[str, str]) -> str:
    """The form of a kind, with what is typed already."""
    fields = fields_of(kind, texts, state.job.units, nameable(session, state))
    return render_template("_plan_form.html", fields=fields, kind=kind, noun=WORDS[kind].noun, job_id=state.job.id)


@blueprint.post("/plan")
@changes
def plan(job_id: int):
    kind = request.form.get("kind", "")
    planning.plan_typed(g.actor, job_id, kind, typed_texts())
    return go_on(job_id, "align") if KINDS[kind].role == "system" else done()


@blueprint.post("/list")
@changes
def look_at_list(job_id: int):
    """A list of points as it was read, with what is wrong in which line; nothing is planned yet."""
    file = request.files.get("file")
    text = text_of(file.read()) if file else request.form.get("text", "")
    units = request.form.get("list_units", "")
    with transaction() as session:
        state = as_it_stands(session, job_id)
        found = planning.read_list(session, job_id, text, units)
        doubt = planning.doubt_of_units(session, job_id, found, state.job.units)
    shown = [
        (p.line, p.name, [length_text(v, state.job.units) for v in p.at], [f"{v:.4f}" for v in p.normal or ()])
        for p in found.points[:LINES_SHOWN]
    ]
    can_curve = len(found.points) > 1 and all(p.normal for p in found.points)
    return render_template(
        "_list.html", found=found, shown=shown, text=text, units=units, job_id=job_id, doubt=doubt, can_curve=can_curve,
        every=length_text(EVERY_MM, state.job.units),
    )  # fmt: skip


@blueprint.post("/list/plan")
@changes
def plan_list(job_id: int):
    planning.plan_list(g.actor, job_id, request.form.get("text", ""), request.form.get("list_units", ""))
    return go_on(job_id, "part")


@blueprint.post("/rows/<int:row_id>/form")
@changes
def refill_row(job_id: int, row_id: int):
    """A row's form with what was typed."""
    with transaction() as session:
        state = as_it_stands(session, job_id)
        fields = row_fields(session, state, row_id, typed_texts())
    return render_template("_form_fields.html", fields=fields)


def row_fields(session: Session, state: JobResults, row_id: int, texts: dict[str, str] | None = None) -> tuple[FormField, ...]:
    """The fields of a row's form: as it is, or with what was typed."""
    recipe, available = state.row(row_id).recipe, state.available(row_id)
    filled = texts if texts is not None else texts_of(recipe, state.job.units, available)
    kind = recipe.kind
    return fields_of(kind, filled, state.job.units, nameable(session, state), available, recipe)
