"""Rows added to the sheet in acts, named alike, and a whole act taken back."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import RowRecipe, kind_of, needs_of, recipe_from_dict
from ...store.database import stored, tell, transaction
from ...store.models import Change, Job, Reading, Row, Station
from ..actor import Actor
from ..state.recipes import recipe_of
from ..words import words_for
from .forms import data_of

MOST_ROWS = 5000
ROW_GONE = InputError("That row is not in this job any more.", "Nothing was changed.", "Choose another row.")


@dataclass(frozen=True)
class LastPlan:
    """The newest act of planning that still has rows on the sheet."""

    rows: tuple[int, ...]
    first_name: str


def add_rows(session: Session, actor: Actor, job_id: int, recipes: Sequence[RowRecipe], act_id: int | None = None) -> list[int]:
    """Add rows at the end of the sheet as one act, within a transaction. Returns their ids.

    The first that takes hits is current, the first coordinate system active, where there is none yet. ``act_id``: of an
    act of planning in the same transaction that they belong to.
    """
    job = stored(session, Job, job_id, lock=True)
    there = session.scalar(select(func.count(Row.id)).where(Row.job_id == job_id, Row.removed_at.is_(None))) or 0
    if there + len(recipes) > MOST_ROWS:
        raise InputError(
            f"The sheet would have {there + len(recipes)} rows; it holds {MOST_ROWS}.",
            "Nothing was planned.",
            "Begin another job for the rest.",
        )
    for recipe in recipes:
        check_references(session, job_id, recipe)
    act = stored(session, Change, act_id) if act_id else Change(user_id=actor.id, job_id=job_id, act="plan", detail={})
    session.add(act)
    session.flush()
    position = 1 + (session.scalar(select(func.max(Row.position)).where(Row.job_id == job_id)) or 0)
    rows = [
        Row(job_id=job_id, position=position + k, recipe=recipe.model_dump(mode="json"), planned_by=act.id)
        for k, recipe in enumerate(recipes)
    ]
    session.add_all(rows)
    session.flush()
    for row in rows:
        take_letter(session, job_id, row.id, row.recipe.get("datum"))
    before = act.detail
    act.detail = {
        "rows": [*before.get("rows", ()), *(row.id for row in rows)],
        "recipes": [*before.get("recipes", ()), *(row.recipe for row in rows)],
    }
    if job.current_row_id is None:
        job.current_row_id = next((row.id for row, recipe in zip(rows, recipes, strict=True) if recipe.takes_hits), None)
    if job.alignment_row_id is None:
        job.alignment_row_id = next((row.id for row, r in zip(rows, recipes, strict=True) if r.role == "system"), None)
    tell(session, job_id, "sheet", row=rows[0].id if len(rows) == 1 else None)
    return [row.id for row in rows]


def add_row(session: Session, actor: Actor, job_id: int, raw: Mapping[str, Any]) -> int:
    """Add one, from plain data. Raises InputError naming the field that does not hold."""
    return add_rows(session, actor, job_id, [recipe_from_dict(raw)])[0]


def surface_point(point: Sequence[float], normal: Sequence[float], **more: Any) -> dict[str, Any]:
    """Plain data of a row for a place (3,) on a surface, with the normal there out of the material."""
    return {"kind": "surface_point", "nominal": {"shape": "plane", "point": list(point), "normal": list(normal)}, **more}


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


def take_letter(session: Session, job_id: int, row_id: int, letter: str | None) -> None:
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


def names_of(session: Session, job_id: int) -> list[str]:
    return list(session.scalars(select(Row.recipe["name"].astext).where(Row.job_id == job_id, Row.removed_at.is_(None))))


def named(session: Session, job_id: int, raws: Iterable[Mapping[str, Any]], stem: str = "") -> list[RowRecipe]:
    """Recipes from plain data, with names, numbered alike for alike things (Bore 1, Bore 2, …), where they have none.

    ``stem``: what they are called, or by their kind; of a letter alone come the names of datum targets (A1, A2, …).
    """
    there, highest, found = names_of(session, job_id), dict[str, int](), list[RowRecipe]()
    for raw in raws:
        if raw.get("name"):
            found.append(recipe_from_dict(raw))
            continue
        recipe = recipe_from_dict({**raw, "name": "?"})
        called = stem or words_for(recipe).stem(recipe)
        space = "" if re.fullmatch("[A-Z]", called) else " "  # a letter alone is a datum's: A1, A2
        if called not in highest:
            pattern = re.compile(rf"^{re.escape(called)}{space}(\d{{1,9}})$")
            highest[called] = max((int(m[1]) for name in there if (m := pattern.match(name))), default=0)
        highest[called] += 1
        found.append(recipe.model_copy(update={"name": f"{called}{space}{highest[called]}"}))
    return found


def checked_stem(stem: str) -> str:
    """The stem of rows' names, before their number. Raises InputError."""
    stem = stem.strip()
    if len(stem) > 70:
        raise InputError("The name has more than 70 letters.", "Nothing was planned.", "Type a shorter one.")
    return stem


def plan_typed(actor: Actor, job_id: int, kind: str, texts: Mapping[str, str]) -> int:
    """A row of any kind, as typed in its form, in the job's units. Returns its id."""
    actor.must_change()
    with transaction() as session:
        units = stored(session, Job, job_id).units
        return add_rows(session, actor, job_id, named(session, job_id, [data_of(kind, texts, units)]))[0]


def last_plan(session: Session, job_id: int) -> LastPlan | None:
    """The newest act of planning, which can be undone; None where there is none."""
    rows = _last_rows(session, job_id)
    return LastPlan(tuple(row.id for row in rows), rows[0].recipe["name"]) if rows else None


def _last_rows(session: Session, job_id: int) -> list[Row]:
    standing = select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None))
    newest = select(func.max(Row.planned_by)).where(Row.job_id == job_id, Row.removed_at.is_(None)).scalar_subquery()
    return list(session.scalars(standing.where(Row.planned_by == newest).order_by(Row.position, Row.id)))


def take_plan_back(actor: Actor, job_id: int, seen: Collection[int]) -> int:
    """Take the newest act of planning off the sheet, as a whole. Returns how many rows went.

    ``seen``: its rows as the person saw them. Refused where one of them has hits, or another row rests on one.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        rows = _last_rows(session, job_id)
        ids = {row.id for row in rows}
        if not rows or ids != set(seen):
            raise InputError("The sheet was changed meanwhile.", "Nothing was taken back.", "Look at what was planned last.")
        read = set(session.scalars(select(Reading.row_id).where(Reading.row_id.in_(ids)).distinct()))
        touched = [row.recipe["name"] for row in rows if row.id in read]
        if touched:
            raise InputError(
                f"{_some(touched)} has hits.", "Nothing was taken back.", "Remove the rows that are wrong one by one."
            )
        take_off(session, job, rows)
        session.add(Change(user_id=actor.id, job_id=job_id, act="take plan back", detail={"rows": sorted(ids)}))
        tell(session, job_id, "sheet")
        return len(rows)


def take_off(session: Session, job: Job, rows: Sequence[Row]) -> None:
    """Rows are off the sheet, within a transaction; what was current or active among them is no more. Raises InputError while
    another row rests on one."""
    ids = {row.id for row in rows}
    others = select(Row).where(Row.job_id == job.id, Row.removed_at.is_(None), Row.id.not_in(ids))
    left = list(session.scalars(others.order_by(Row.position, Row.id)))
    needing = [row.recipe["name"] for row in left if rests_on(recipe_of(row), ids)]
    if needing:
        rests = "rests" if len(needing) == 1 else "rest"
        what = "this row" if len(rows) == 1 else "them"
        raise InputError(f"{_some(needing)} {rests} on {what}.", "Nothing was removed.", "Remove that first.")
    for row in rows:
        row.removed_at = datetime.now(UTC)
    if job.current_row_id in ids:
        job.current_row_id = next((row.id for row in left if kind_of(row.recipe).takes_hits), None)
    if job.alignment_row_id in ids:
        job.alignment_row_id = None


def row_of(session: Session, job_id: int, row_id: int) -> Row:
    """A row that stands on the job's sheet. Raises InputError."""
    row = session.get(Row, row_id)
    if row is None or row.job_id != job_id or row.removed_at is not None:
        raise ROW_GONE
    return row


def rests_on(recipe: RowRecipe, ids: Collection[int]) -> bool:
    """The recipe names one of some rows."""
    return any(n.id in ids and n.what != "station" for n in needs_of(recipe))


def _some(names: Sequence[str]) -> str:
    """Names in a sentence, not too many of them."""
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + more
