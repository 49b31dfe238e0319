"""Planning and editing the rows of the run sheet."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Any, cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.sheet import recipe_from_dict
from ..core.sheet.recipes import depends_on
from ..core.units import Units, length_from_text
from ..store.database import tell, transaction
from ..store.models import Job, Part, Row
from .actor import Actor, record

DEFAULT_HITS = {"plane": 4, "cylinder": 12}
ROW_GONE = InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")


def create_job(actor: Actor, name: str, part_id: int) -> int:
    """A new job on a part. Returns its id."""
    actor.must_change()
    name = name.strip()
    if not name or len(name) > 80:
        raise InputError("A job needs a name of at most 80 letters.", "Nothing was changed.", "Type a name.")
    with transaction() as session:
        if session.get(Part, part_id) is None:
            raise InputError("That part is not there.", "Nothing was changed.", "Upload a STEP file.")
        job = Job(name=name, part_id=part_id, created_by=actor.id)
        session.add(job)
        session.flush()
        record(session, actor, job.id, "new job", name=name)
        return job.id


def set_units(actor: Actor, job_id: int, units: str) -> None:
    """How lengths are shown and typed; nothing stored changes."""
    actor.must_change()
    if units not in ("mm", "in"):
        raise InputError("Lengths are mm or inches.", "Nothing was changed.", "Choose mm or in.")
    with transaction() as session:
        session.get(Job, job_id).units = cast(Units, units)
        record(session, actor, job_id, "units", units=units)
        tell(session, job_id, "units")


def add_row(session: Session, actor: Actor, job_id: int, raw: dict) -> int:
    """Add a validated row at the end of the sheet, within a transaction. Returns its id."""
    recipe = recipe_from_dict(raw)
    position = session.scalar(select(func.coalesce(func.max(Row.position), 0)).where(Row.job_id == job_id)) + 1
    row = Row(job_id=job_id, position=position, recipe=recipe.model_dump(mode="json"))
    session.add(row)
    session.flush()
    job = session.get(Job, job_id)
    if job.current_row_id is None and recipe.kind in ("plane", "cylinder"):
        job.current_row_id = row.id
    record(session, actor, job_id, "plan", row=row.id, recipe=row.recipe)
    tell(session, job_id, "sheet", row=row.id)
    return row.id


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
        job = session.get(Job, job_id)
        faces = session.get(Part, job.part_id).faces
        if not 0 <= face_index < len(faces):
            raise InputError("That face is not on this part.", "Nothing was changed.", "Pick a face on the stage.")
        face = faces[face_index]
        nominal = face["nominal"]
        if nominal is None:
            raise InputError(
                f"This face is a {face['surface']}.", "Nothing was planned.", "Planes and cylinders can be planned so far."
            )
        kind = nominal["shape"]
        stem = "Plane" if kind == "plane" else "Bore" if nominal["inside"] else "Boss"
        raw = {
            "kind": kind,
            "name": free_name(session, job_id, stem),
            "nominal": nominal,
            "face": face_index,
            "hits": DEFAULT_HITS[kind],
        }
        return add_row(session, actor, job_id, raw)


def plan_typed(actor: Actor, job_id: int, form: dict[str, str]) -> int:
    """A row with a nominal typed from a drawing, in the job's units. Returns its id."""
    actor.must_change()
    with transaction() as session:
        units = session.get(Job, job_id).units
        kind = form.get("kind", "")
        place = [length_from_text(form.get(k, ""), units, k.upper()) for k in ("x", "y", "z")]
        along = [length_from_text(form.get(k, ""), "mm", k) for k in ("i", "j", "k")]
        if kind == "plane":
            nominal: dict[str, Any] = {"shape": "plane", "point": place, "normal": along}
        elif kind == "cylinder":
            size = length_from_text(form.get("size", ""), units, "the size")
            factor = 2 if form.get("terms") == "radius" else 1
            nominal = {"shape": "cylinder", "point": place, "direction": along, "diameter_mm": factor * size}
            nominal["inside"] = form.get("side", "inside") == "inside"
        else:
            raise InputError("A row is a plane or a cylinder.", "Nothing was planned.", "Choose one of the two.")
        stem = "Plane" if kind == "plane" else "Bore" if nominal["inside"] else "Boss"
        name = form.get("name", "").strip() or free_name(session, job_id, stem)
        raw = {"kind": kind, "name": name, "nominal": nominal, "hits": DEFAULT_HITS[kind]}
        if kind == "cylinder":
            raw["terms"] = form.get("terms", "diameter")
        return add_row(session, actor, job_id, raw)


def edit_row(actor: Actor, job_id: int, row_id: int, form: dict[str, str]) -> None:
    """Change a row's name, letter, hits, spacing and limits; typed in the row's own terms."""
    actor.must_change()
    with transaction() as session:
        job = session.get(Job, job_id, with_for_update=True)
        row = _row(session, job_id, row_id)
        raw = dict(row.recipe)
        factor = 2 if raw.get("terms") == "radius" else 1
        if "name" in form:
            raw["name"] = form["name"].strip()
        if "lower" in form or "upper" in form:
            raw["tolerance"] = _limits(form, job.units, factor)
        if raw["kind"] in ("plane", "cylinder"):
            _edit_feature(raw, form, job.units)
        if raw["kind"] == "distance" and "nominal" in form:
            text = form["nominal"].strip()
            raw["nominal_mm"] = length_from_text(text, job.units, "the nominal") if text else None
        if raw["kind"] == "plane" and "datum" in form:
            raw["datum"] = form["datum"].strip().upper() or None
            _take_letter(session, job_id, row_id, raw["datum"])
        row.recipe = recipe_from_dict(raw).model_dump(mode="json")
        record(session, actor, job_id, "edit", row=row_id, recipe=row.recipe)
        tell(session, job_id, "sheet", row=row_id)


def _limits(form: dict[str, str], units: Units, factor: int) -> dict | None:
    lower, upper = form.get("lower", "").strip(), form.get("upper", "").strip()
    if not lower and not upper:
        return None
    if not lower or not upper:
        raise InputError("A tolerance has two limits.", "The row was left as it was.", "Type both, or leave both empty.")
    return {
        "lower_mm": factor * length_from_text(lower, units, "the lower limit"),
        "upper_mm": factor * length_from_text(upper, units, "the upper limit"),
    }


def _edit_feature(raw: dict, form: dict[str, str], units: Units) -> None:
    if "hits" in form:
        if not form["hits"].strip().isdigit():
            raise InputError("The number of hits is a whole number.", "The row was left as it was.", "Type a number.")
        raw["hits"] = int(form["hits"])
    if "spacing" in form:
        raw["spacing_mm"] = length_from_text(form["spacing"], units, "the distance between hits")


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


def switch_terms(actor: Actor, job_id: int, row_id: int) -> None:
    """Radius or diameter, as the drawing says it: nominal and tolerance turn together."""
    actor.must_change()
    with transaction() as session:
        row = _row(session, job_id, row_id)
        if row.recipe["kind"] != "cylinder":
            raise InputError("Only a round feature has a radius.", "Nothing was changed.", "Choose a bore or a boss.")
        terms = "radius" if row.recipe.get("terms", "diameter") == "diameter" else "diameter"
        row.recipe = {**row.recipe, "terms": terms}
        record(session, actor, job_id, "terms", row=row_id, terms=terms)
        tell(session, job_id, "sheet", row=row_id)


def remove_row(actor: Actor, job_id: int, row_id: int) -> None:
    """Take a row off the sheet; its readings are kept. Refused while other rows rest on it."""
    actor.must_change()
    with transaction() as session:
        job = session.get(Job, job_id, with_for_update=True)
        row = _row(session, job_id, row_id)
        others = session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None), Row.id != row_id)).all()
        resting = [r.recipe["name"] for r in others if row_id in depends_on(recipe_from_dict(r.recipe))]
        if resting:
            raise InputError(f"{' and '.join(resting)} rests on this row.", "Nothing was removed.", "Remove that first.")
        row.removed_at = datetime.now(UTC)
        if job.current_row_id == row_id:
            job.current_row_id = next((r.id for r in others if r.recipe["kind"] in ("plane", "cylinder")), None)
        if job.alignment_row_id == row_id:
            job.alignment_row_id = None
        record(session, actor, job_id, "remove", row=row_id)
        tell(session, job_id, "sheet")


def move_row(actor: Actor, job_id: int, row_id: int, by: int) -> None:
    """One place up (-1) or down (+1)."""
    actor.must_change()
    with transaction() as session:
        session.get(Job, job_id, with_for_update=True)
        query = select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None)).order_by(Row.position, Row.id)
        rows = list(session.scalars(query))
        at = next((k for k, r in enumerate(rows) if r.id == row_id), None)
        if at is None:
            raise ROW_GONE
        to = min(max(at + by, 0), len(rows) - 1)
        rows.insert(to, rows.pop(at))
        for k, row in enumerate(rows):
            row.position = k + 1
        tell(session, job_id, "sheet")


def _row(session: Session, job_id: int, row_id: int) -> Row:
    row = session.get(Row, row_id)
    if row is None or row.job_id != job_id or row.removed_at is not None:
        raise ROW_GONE
    return row
