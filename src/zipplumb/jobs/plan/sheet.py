"""A job, and editing the rows of its run sheet."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, cast

from sqlalchemy import literal, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.fingerprints import fingerprint
from ...core.sheet import RowRecipe, recipe_from_dict
from ...core.tolerances.decision import GUARD, Rule
from ...core.units import units_named
from ...store.database import stored, tell, transaction
from ...store.models import Change, Job, Part, Row
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from ..state.recipes import recipe_of, rewrite
from ..state.results import load
from .adding import check_references, row_of, take_letter
from .forms import changed, data_of, in_its_terms, texts_of
from .parts import add_without_cad, checked_bodies


def create_job(actor: Actor, name: str, part_id: int, bodies: Iterable[int] | None = None) -> int:
    """A new job on a part, with all or some of its bodies. Returns its id."""
    actor.must_change()
    name = checked_name(name)
    with transaction() as session:
        part = stored(session, Part, part_id)
        if part.state != "ready":
            raise InputError("That part is not read.", "Nothing was begun.", "Wait for it, or choose another file.")
        job = Job(name=name, part_id=part_id, created_by=actor.id)
        job.kept_bodies = None if bodies is None else checked_bodies(part, bodies)
        session.add(job)
        session.flush()
        record(session, actor, job.id, "new job", name=name, bodies=job.kept_bodies)
        return job.id


def create_job_without_cad(actor: Actor, name: str) -> int:
    """A new job on a part of which there is no CAD. Returns its id."""
    actor.must_change()
    name = checked_name(name)
    with transaction() as session:
        job = Job(name=name, part_id=add_without_cad(session, name).id, created_by=actor.id, kept_bodies=[])
        session.add(job)
        session.flush()
        record(session, actor, job.id, "new job", name=name, bodies=[])
        return job.id


def checked_name(name: str) -> str:
    name = name.strip()
    if not name or len(name) > 80:
        raise InputError("A job needs a name of at most 80 letters.", "Nothing was changed.", "Type a name.")
    return name


def set_units(actor: Actor, job_id: int, units: str, seen: str | None = None) -> None:
    """How lengths are shown and typed; nothing stored changes."""
    actor.must_change()
    wanted = units_named(units)
    if wanted is None:
        raise InputError("Lengths are mm or inches.", "Nothing was changed.", "Choose mm or in.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        must_be_as_seen(edition_of(job, "units"), seen, "What lengths are shown in")
        before, job.units = job.units, wanted
        record(session, actor, job_id, "units", before={"units": before}, after={"units": units})
        tell(session, job_id, "units")


def set_rule(actor: Actor, job_id: int, rule: str, seen: str | None = None) -> str:
    """Set the decision rule; results stay as they are, their verdicts follow it. Returns what is seen of it now."""
    actor.must_change()
    if rule not in GUARD:
        raise InputError("That is no rule of decision.", "Nothing was changed.", "Choose one of the list.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        must_be_as_seen(edition_of(job, "rule"), seen, "The rule of decision")
        before, job.rule = job.rule, cast(Rule, rule)
        record(session, actor, job_id, "rule of decision", before={"rule": before}, after={"rule": rule})
        tell(session, job_id, "sheet")
        return edition_of(job, "rule")


def seen_of(recipe: RowRecipe) -> str:
    """Names what a person saw of a row when they began to edit it; the answer to a question of the side is not of it."""
    return fingerprint(recipe.model_dump_json(exclude={"settled_air", "as_touched"}))


def as_seen(row: Row, seen: str | None) -> None:
    """Raises InputError where somebody changed the row since."""
    must_be_as_seen(seen_of(recipe_of(row)), seen, row.recipe["name"])


def edit_row(actor: Actor, job_id: int, row_id: int, texts: Mapping[str, str], seen: str | None = None) -> str:
    """Change what was typed anew in a row's form; in the job's units and the row's own terms.

    ``seen``: of the row as the person saw it (see ``seen_of``). Returns that of the row as it is now.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row = row_of(session, job_id, row_id)
        as_seen(row, seen)
        recipe = recipe_of(row)
        available = load(session, job_id).available(row_id)
        new = changed(in_its_terms(recipe.kind, texts, job.units, available), texts_of(recipe, job.units, available))
        raw = data_of(recipe.kind, new, job.units, row.recipe, available)
        if "datum" in new:
            raw["datum"] = (raw["datum"] or "").upper() or None
            take_letter(session, job_id, row_id, raw["datum"])
        edited = recipe_from_dict(raw)
        check_references(session, job_id, edited)
        before = rewrite(row, edited)
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(edited)


EDIT_BACK = "take the edit back"


def before_last_edit(session: Session, job_id: int, row_id: int) -> dict[str, Any] | None:
    """The row's recipe before the edit that made it what it is; None where no edit did."""
    row = row_of(session, job_id, row_id)
    made = (
        select(Change.detail["before"])
        .where(Change.job_id == job_id, Change.detail["row"].as_integer() == row_id, Change.act == "edit")
        .where(Change.detail["after"] == literal(row.recipe, JSONB), Change.detail["before"] != literal(row.recipe, JSONB))
        .order_by(Change.id.desc())
        .limit(1)
    )
    return session.scalar(made)


def take_edit_back(actor: Actor, job_id: int, row_id: int, seen: str | None = None) -> str:
    """A row is as it was before it was edited last; once more, before the edit before that. Returns what is seen of it."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        row = row_of(session, job_id, row_id)
        as_seen(row, seen)
        earlier = before_last_edit(session, job_id, row_id)
        if earlier is None:
            raise InputError("No edit of this row can be taken back.", "Nothing was changed.", "Look at what was done to it.")
        recipe = recipe_from_dict(earlier)
        check_references(session, job_id, recipe)
        take_letter(session, job_id, row_id, earlier.get("datum"))
        before = rewrite(row, recipe)
        record(session, actor, job_id, EDIT_BACK, row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(recipe)


def set_limits(actor: Actor, job_id: int, row_id: int, lower: str, upper: str, key: str = "") -> None:
    """Limits of one characteristic, as typed; by default of the one on the row's line. The others stay as they are."""
    with transaction() as session:
        state = load(session, job_id)
        available, units = state.available(row_id), state.job.units
        recipe = state.row(row_id).recipe
    if not available:
        raise InputError("That row has nothing to judge.", "Nothing was changed.", "Choose a feature or a dimension.")
    asked = [a.key for a in recipe.asked] or [k for k, _ in available]
    texts = texts_of(recipe, units, available) | {f"asked.{k}.on": "1" for k in asked}
    key = key or asked[0]
    texts |= {f"asked.{key}.on": "1", f"asked.{key}.lower": lower, f"asked.{key}.upper": upper}
    edit_row(actor, job_id, row_id, {"asked.first": asked[0], **texts})


def switch_terms(actor: Actor, job_id: int, row_id: int, seen: str | None = None) -> str:
    """Radius or diameter, as the drawing says it: nominal and limits turn together."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        row = row_of(session, job_id, row_id)
        as_seen(row, seen)
        switched = recipe_of(row).in_other_terms()
        if switched is None:
            raise InputError("Only a round feature has a radius.", "Nothing was changed.", "Choose a bore or a boss.")
        rewrite(row, switched)
        record(session, actor, job_id, "terms", row=row_id, terms=row.recipe["terms"])
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(switched)
