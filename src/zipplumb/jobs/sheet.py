"""Planning and editing the rows of the run sheet."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any, cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.fingerprints import fingerprint
from ..core.shape_codec import shape_from_data
from ..core.sheet import RowRecipe, kind_of, needs_of, recipe_from_dict
from ..core.sheet.kinds import measured_as
from ..core.sheet.measured import MeasuredRecipe
from ..core.units import Units
from ..store.database import stored, tell, transaction
from ..store.models import Job, Part, Row, Station
from .actor import Actor, record
from .forms import changed, data_of, texts_of
from .parts import checked_bodies
from .results import load
from .words import words_for

ROW_GONE = InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")


def create_job(actor: Actor, name: str, part_id: int, bodies: Iterable[int] | None = None) -> int:
    """A new job on a part, with all or some of its bodies. Returns its id."""
    actor.must_change()
    name = name.strip()
    if not name or len(name) > 80:
        raise InputError("A job needs a name of at most 80 letters.", "Nothing was changed.", "Type a name.")
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


def set_units(actor: Actor, job_id: int, units: str) -> None:
    """How lengths are shown and typed; nothing stored changes."""
    actor.must_change()
    if units not in ("mm", "in"):
        raise InputError("Lengths are mm or inches.", "Nothing was changed.", "Choose mm or in.")
    with transaction() as session:
        job = stored(session, Job, job_id)
        before, job.units = job.units, cast(Units, units)
        record(session, actor, job_id, "units", before={"units": before}, after={"units": units})
        tell(session, job_id, "units")


def measured_so_far(session: Session) -> dict[int, tuple[int, int]]:
    """By job, how many rows are to be measured, and how many of these are finished."""
    kind = Row.recipe["kind"].astext.label("kind")
    query = select(Row.job_id, kind, func.count(Row.id), func.count(Row.finished_at)).where(Row.removed_at.is_(None))
    found: dict[int, tuple[int, int]] = {}
    for job_id, key, rows, finished in session.execute(query.group_by(Row.job_id, "kind")):
        if kind_of({"kind": key}).takes_hits:
            before = found.get(job_id, (0, 0))
            found[job_id] = before[0] + rows, before[1] + finished
    return found


def add_row(session: Session, actor: Actor, job_id: int, raw: Mapping[str, Any]) -> int:
    """Add a validated row at the end of the sheet, within a transaction. Returns its id.

    The first that takes hits is current, the first coordinate system active.
    """
    recipe = recipe_from_dict(raw)
    check_references(session, job_id, recipe)
    position = 1 + (session.scalar(select(func.max(Row.position)).where(Row.job_id == job_id)) or 0)
    row = Row(job_id=job_id, position=position, recipe=recipe.model_dump(mode="json"))
    session.add(row)
    session.flush()
    _take_letter(session, job_id, row.id, row.recipe.get("datum"))
    job = stored(session, Job, job_id)
    if job.current_row_id is None and recipe.takes_hits:
        job.current_row_id = row.id
    if job.alignment_row_id is None and recipe.role == "system":
        job.alignment_row_id = row.id
    record(session, actor, job_id, "plan", row=row.id, recipe=row.recipe)
    tell(session, job_id, "sheet", row=row.id)
    return row.id


def check_references(session: Session, job_id: int, recipe: RowRecipe) -> None:
    """Everything that a recipe names is of this job, and of the right sort."""
    for needed in needs_of(recipe):
        if needed.what == "station":
            station = session.get(Station, needed.id)
            sound = station is not None and station.job_id == job_id
        else:
            row = session.get(Row, needed.id)
            there = row is not None and row.job_id == job_id and row.removed_at is None
            sound = row is not None and there and kind_of(row.recipe).role == needed.what
        if not sound:
            raise InputError(
                f"It names a {needed.what} that is not in this job.", "The row was left as it was.", "Choose one of this job."
            )


def free_name(session: Session, job_id: int, stem: str) -> str:
    """The stem, numbered alike for alike things: Bore 1, Bore 2, …"""
    names = session.scalars(select(Row.recipe["name"].astext).where(Row.job_id == job_id, Row.removed_at.is_(None))).all()
    pattern = re.compile(rf"^{re.escape(stem)} (\d+)$")
    used = [int(m[1]) for n in names if (m := pattern.match(n))]
    return f"{stem} {max(used, default=0) + 1}"


def plan_from_face(actor: Actor, job_id: int, face_index: int) -> int:
    """A row with the nominal of a picked face. Returns its id."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id)
        faces = stored(session, Part, job.part_id).faces
        if not 0 <= face_index < len(faces):
            raise InputError("That face is not on this part.", "Nothing was changed.", "Pick a face on the stage.")
        face = faces[face_index]
        kind = kind_for_face(face)
        if kind is None:
            raise InputError(
                f"This face is a {face['surface']}.", "Nothing was planned.", "Pick another, or type what it should be."
            )
        raw = kind.of_face(face_index, face["nominal"], bool(face["inside"]))
        return add_row(session, actor, job_id, named(session, job_id, raw))


def kind_for_face(face: Mapping[str, Any]) -> type[MeasuredRecipe] | None:
    """The kind that measures such a face, or None."""
    nominal = face["nominal"]
    return measured_as(shape_from_data(nominal)) if nominal else None


def named(session: Session, job_id: int, raw: dict[str, Any]) -> dict[str, Any]:
    """With a name, numbered alike for alike things, where it has none."""
    if raw.get("name"):
        return raw
    recipe = recipe_from_dict({**raw, "name": "?"})
    return {**raw, "name": free_name(session, job_id, words_for(recipe).stem(recipe))}


def plan_typed(actor: Actor, job_id: int, kind: str, texts: Mapping[str, str]) -> int:
    """A row of any kind, as typed in its form, in the job's units. Returns its id."""
    actor.must_change()
    with transaction() as session:
        units = stored(session, Job, job_id).units
        return add_row(session, actor, job_id, named(session, job_id, data_of(kind, texts, units)))


def seen_of(recipe: RowRecipe) -> str:
    """Names what a person saw of a row when they began to edit it; the answer to a question of the side is not of it."""
    return fingerprint(recipe.model_dump_json(exclude={"settled_air"}))


def _as_seen(row: Row, seen: str | None) -> None:
    """Raises InputError where somebody changed the row since."""
    if seen is not None and seen != seen_of(recipe_from_dict(row.recipe)):
        raise InputError(
            f"{row.recipe['name']} was changed by somebody else since you opened it.",
            "Your change was not kept, theirs stands.",
            "Open the row again, and type it anew.",
        )


def edit_row(actor: Actor, job_id: int, row_id: int, texts: Mapping[str, str], seen: str | None = None) -> str:
    """Change what was typed anew in a row's form; in the job's units and the row's own terms.

    ``seen``: of the row as the person saw it (see ``seen_of``). Returns that of the row as it is now.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row = _row(session, job_id, row_id)
        _as_seen(row, seen)
        recipe = recipe_from_dict(row.recipe)
        available = load(session, job_id).available(row_id)
        new = changed(texts, texts_of(recipe, job.units, available))
        raw = data_of(recipe.kind, new, job.units, row.recipe, available)
        if "datum" in new:
            raw["datum"] = (raw["datum"] or "").upper() or None
            _take_letter(session, job_id, row_id, raw["datum"])
        edited = recipe_from_dict(raw)
        check_references(session, job_id, edited)
        before, row.recipe = row.recipe, edited.model_dump(mode="json")
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(edited)


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


def _take_letter(session: Session, job_id: int, row_id: int, letter: str | None) -> None:
    """A datum letter is on one row only: it is refused, not moved, where another has it."""
    if letter is None:
        return
    query = select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None), Row.id != row_id)
    other = next((r for r in session.scalars(query) if r.recipe.get("datum") == letter), None)
    if other is not None:
        raise InputError(
            f"Datum {letter} is on {other.recipe['name']}.",
            "The row was left as it was.",
            "Take it off there first, or choose another.",
        )


def switch_terms(actor: Actor, job_id: int, row_id: int, seen: str | None = None) -> str:
    """Radius or diameter, as the drawing says it: nominal and limits turn together."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        row = _row(session, job_id, row_id)
        _as_seen(row, seen)
        switched = recipe_from_dict(row.recipe).in_other_terms()
        if switched is None:
            raise InputError("Only a round feature has a radius.", "Nothing was changed.", "Choose a bore or a boss.")
        row.recipe = switched.model_dump(mode="json")
        record(session, actor, job_id, "terms", row=row_id, terms=row.recipe["terms"])
        tell(session, job_id, "sheet", row=row_id)
        return seen_of(switched)


def remove_row(actor: Actor, job_id: int, row_id: int, seen: str | None = None) -> None:
    """Take a row off the sheet; its readings are kept. Refused while other rows rest on it."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row = _row(session, job_id, row_id)
        _as_seen(row, seen)
        others = session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None), Row.id != row_id)).all()
        resting = [r.recipe["name"] for r in others if rests_on(recipe_from_dict(r.recipe), row_id)]
        if resting:
            raise InputError(f"{' and '.join(resting)} rests on this row.", "Nothing was removed.", "Remove that first.")
        row.removed_at = datetime.now(UTC)
        if job.current_row_id == row_id:
            job.current_row_id = next((r.id for r in others if kind_of(r.recipe).takes_hits), None)
        if job.alignment_row_id == row_id:
            job.alignment_row_id = None
        record(session, actor, job_id, "remove", row=row_id)
        tell(session, job_id, "sheet")


def rests_on(recipe: RowRecipe, row_id: int) -> bool:
    """The recipe names a row."""
    return any(n.id == row_id and n.what != "station" for n in needs_of(recipe))


def move_row(actor: Actor, job_id: int, row_id: int, by: int) -> None:
    """One place up (-1) or down (+1)."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        query = select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None)).order_by(Row.position, Row.id)
        rows = list(session.scalars(query))
        at = next((k for k, r in enumerate(rows) if r.id == row_id), None)
        if at is None:
            raise ROW_GONE
        to = min(max(at + by, 0), len(rows) - 1)
        rows.insert(to, rows.pop(at))
        for k, row in enumerate(rows):
            row.position = k + 1
        record(session, actor, job_id, "move", row=row_id, before={"place": at + 1}, after={"place": to + 1})
        tell(session, job_id, "sheet")


def _row(session: Session, job_id: int, row_id: int) -> Row:
    row = session.get(Row, row_id)
    if row is None or row.job_id != job_id or row.removed_at is not None:
        raise ROW_GONE
    return row
