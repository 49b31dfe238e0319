"""The plan that the pieces of a job share: as it is kept, and what of it a piece has otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import RowRecipe, needs_of, recipe_from_dict
from ...core.sheet.base import Needed
from ...core.sheet.planned import as_planned
from ...store.models import Job, Row
from ...store.pieces import Plan
from ..state.recipes import recipe_of
from ..words import WORDS

What = Literal["changed", "new", "gone"]
TOLD = {"rule": "rule of decision", "alignment": "alignment in use"}  # of a job, what its plan says beside the rows
NO_ROW = -1  # which no recipe may name
Recipes = dict[int, dict[str, Any]]  # by key, in order


@dataclass(frozen=True)
class OwnPlan:
    """The plan of one piece. ``left``: names of rows that make sense for this piece alone, and of what rests on them."""

    told: dict[str, Any]
    rows: Recipes
    left: tuple[str, ...]


@dataclass(frozen=True)
class Difference:
    """Of one row, or of the rule of decision or the alignment in use (``key`` 0). ``fields``: those that differ, in words;
    ``both``: it was changed here too."""

    key: int
    what: What
    name: str
    fields: tuple[str, ...] = ()
    both: bool = False


def rows_of(session: Session, piece_id: int) -> list[Row]:
    """On the sheet, in order."""
    standing = Row.job_id == piece_id, Row.removed_at.is_(None)
    return list(session.scalars(select(Row).where(*standing).order_by(Row.position, Row.id)))


def own_plan(session: Session, piece: Job) -> OwnPlan:
    """The plan of a piece as it stands."""
    rows = rows_of(session, piece.id)
    recipes = {row.id: recipe_of(row) for row in rows}
    keys = {row.id: row.in_plan for row in rows}
    planned, left = {row_id: _planned(recipe, keys) for row_id, recipe in recipes.items()}, set[int]()
    while lost := {row_id for row_id, raw in planned.items() if raw is None} - left:  # and then what rests on those
        left |= lost
        keys = {row_id: key for row_id, key in keys.items() if row_id not in left}
        for row_id in keys:
            if any(need.id in lost for need in needs_of(recipes[row_id])):
                planned[row_id] = _planned(recipes[row_id], keys)
    told = {"rule": piece.rule, "alignment": keys.get(piece.alignment_row_id or 0)}
    kept: Recipes = {key: raw for row_id, key in keys.items() if (raw := planned[row_id]) is not None}
    return OwnPlan(told, kept, tuple(recipes[row_id].name for row_id in recipes if row_id in left))


def _planned(recipe: RowRecipe, keys: Mapping[int, int]) -> dict[str, Any] | None:
    """None where it makes sense for one piece alone, or rests on what does."""
    raw = as_planned(recipe, lambda need: None if need.what == "station" else keys.get(need.id, NO_ROW))
    try:
        recipe_from_dict(raw)
    except InputError:  # it cannot do without what was found
        return None
    return None if recipe.of_one_piece else raw


def newest_plan(session: Session, piece: Job) -> Plan | None:
    """The plan of the job to which a piece belongs; None where it never had more than one piece."""
    return session.scalars(select(Plan).where(Plan.job_id == piece.of_job).order_by(Plan.id.desc()).limit(1)).first()


def kept_rows(plan: Plan | None) -> Recipes:
    return {} if plan is None else {each["key"]: each["recipe"] for each in plan.rows}


def differences(own: OwnPlan, taken: Plan | None, newest: Plan | None) -> list[Difference]:
    """What others changed in the job's plan since a piece took it over.

    ``taken``: the plan as the piece took it over; ``newest``: as it is. What a person changed in this piece alone is not told;
    where both changed the same row, it says so.
    """
    if newest is None or taken is None or newest.id == taken.id:
        return []
    was, now, found = kept_rows(taken), kept_rows(newest), list[Difference]()
    for key, recipe in now.items():
        mine = own.rows.get(key)
        if mine is None and key not in was:
            found.append(Difference(key, "new", recipe["name"]))
        elif mine is not None and mine != recipe and was.get(key) != recipe:
            both = key in was and mine != was[key]
            found.append(Difference(key, "changed", mine["name"], fields_that_differ(mine, recipe), both))
    gone = was.keys() - now.keys()
    found += [Difference(key, "gone", mine["name"], (), mine != was[key]) for key, mine in own.rows.items() if key in gone]
    if differing := _of_job(newest.told, taken.told, own.told):
        found.append(Difference(0, "changed", "The job", differing, both=bool(_of_job(own.told, taken.told))))
    return found


def own_changes(own: OwnPlan, taken: Plan | None) -> list[Difference]:
    """What was changed in a piece since it took the plan over, and no other piece has."""
    if taken is None:
        return []
    was = kept_rows(taken)
    found = [Difference(key, "new", recipe["name"]) for key, recipe in own.rows.items() if key not in was]
    found += [
        Difference(key, "changed", recipe["name"], fields_that_differ(was[key], recipe))
        for key, recipe in own.rows.items() if key in was and was[key] != recipe
    ]  # fmt: skip
    found += [Difference(key, "gone", recipe["name"]) for key, recipe in was.items() if key not in own.rows]
    differing = _of_job(own.told, taken.told)
    return [*found, *([Difference(0, "changed", "The job", differing)] if differing else [])]


def fields_that_differ(one: Mapping[str, Any], other: Mapping[str, Any]) -> tuple[str, ...]:
    """In the words of the row's form."""
    names = [name for name in dict.fromkeys([*one, *other]) if one.get(name) != other.get(name)]
    words = (WORDS[other["kind"]].field(name) for name in names)
    return tuple(each[:1].lower() + each[1:] for each in words)


def _of_job(one: Mapping[str, Any], other: Mapping[str, Any], beside: Mapping[str, Any] | None = None) -> tuple[str, ...]:
    """What differs of a job beside its rows, in words; and what differs from ``beside`` too, where that is given."""
    return tuple(
        words for name, words in TOLD.items() if one[name] != other[name] and (beside is None or one[name] != beside[name])
    )


def here(recipe: Mapping[str, Any], row_of: Mapping[int, int]) -> RowRecipe:
    """A recipe of the plan as a row of a piece. ``row_of``: the piece's row, by key. Raises InputError where it rests on a row
    that the piece does not have."""
    planned = recipe_from_dict(recipe)
    missing = [need for need in needs_of(planned) if need.id not in row_of]
    if missing:
        raise InputError(
            f"{planned.name} rests on a row that this piece does not have.", "Nothing was changed.", "Take that over too."
        )

    def rename(need: Needed) -> int | None:
        return row_of.get(need.id)

    return recipe_from_dict(as_planned(planned, rename))
