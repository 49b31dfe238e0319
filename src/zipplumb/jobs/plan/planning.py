"""Planning rows, one or many in one act, and taking a whole act back."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, cast

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.shape_codec import shape_from_data
from ...core.sheet import RowRecipe, kind_of, needs_of, recipe_from_dict
from ...core.sheet.bases.measured import MeasuredRecipe, measured_as, of_free_faces
from ...core.units import MM_PER_INCH, Units, mm, sentence_in
from ...exchange.point_list import Fault, ListedPoint, PointList, read_points
from ...store.database import stored, tell, transaction
from ...store.models import Change, Job, Part, Reading, Row, Station
from ..actor import Actor
from ..state.recipes import recipe_of
from ..words import words_for
from .alike import alike
from .edge_places import place_on_edge
from .forms import data_of

MOST_ROWS = 5000
FREE = "free surface"


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


# ---- names ---------------------------------------------------------------------------------


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


# ---- acts ----------------------------------------------------------------------------------


def plan_from_face(actor: Actor, job_id: int, face_index: int) -> int:
    """A row with the nominal of a picked face. Returns its id."""
    actor.must_change()
    with transaction() as session:
        faces = faces_of(session, job_id, face_index)
        raw = _raw_of_face(faces[face_index])
        return add_rows(session, actor, job_id, named(session, job_id, [raw]))[0]


def edge_at(session: Session, job_id: int, index: int) -> dict[str, Any] | None:
    """An edge of the part by its number, where it is known what it is."""
    part = stored(session, Part, stored(session, Job, job_id).part_id)
    return next((edge for edge in part.edges if edge["index"] == index), None)


def plan_from_edge(actor: Actor, job_id: int, edge_index: int) -> int:
    """A row with the nominal of a picked edge, or of the outline that it belongs to; in the plane of its face's row."""
    actor.must_change()
    with transaction() as session:
        edge = edge_at(session, job_id, edge_index)
        kind = measured_as(shape_from_data(edge["nominal"])) if edge else None
        if edge is None or kind is None:
            raise InputError("That edge is a free curve.", "Nothing was planned.", "Pick another, or places on it.")
        raw = kind.of_edge(edge["nominal"], edge["inside"], _row_of_face(session, job_id, edge["face"]))
        return add_rows(session, actor, job_id, named(session, job_id, [raw]))[0]


def plan_edge_point(actor: Actor, job_id: int, edge_index: int, point: Sequence[float], stem: str = "") -> int:
    """A place on a picked edge, nearest to a point, mm. It lies in the plane of its face's row, or takes that first."""
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        edge = edge_at(session, job_id, edge_index)
        faces = stored(session, Part, stored(session, Job, job_id).part_id).faces
        place = place_on_edge(edge, faces, np.array(point, float)) if edge else None
        if edge is None or place is None:
            raise InputError("Where that edge faces is not known.", "Nothing was planned.", "Type it from the drawing.")
        nominal = {"shape": "line", "point": place[0].tolist(), "direction": place[1].tolist()}
        plane = _row_of_face(session, job_id, edge["face"])
        raw = {"kind": "edge_point", "nominal": nominal, **({"plane": plane} if plane else {"plane_hits": 3})}
        return add_rows(session, actor, job_id, named(session, job_id, [raw], stem))[0]


def _row_of_face(session: Session, job_id: int, face: int | None) -> int | None:
    """The row of a face, the first on the sheet; None where there is none."""
    if face is None:
        return None
    of_it = Row.recipe["face"].as_integer() == face
    standing = select(Row.id).where(Row.job_id == job_id, Row.removed_at.is_(None), of_it).order_by(Row.position)
    return session.scalar(standing.limit(1))


def plan_place(
    actor: Actor, job_id: int, face_index: int, point: Sequence[float], normal: Sequence[float], stem: str = "", hits: int = 1
) -> int:
    """A surface point at a picked place of a face, mm, its normal out of the material. Returns its id.

    ``stem``: what it is called, before its number; ``hits``: 1, or 3 in a small triangle.
    """
    actor.must_change()
    stem = checked_stem(stem)
    if not 0.9 < float(np.linalg.norm(normal)) < 1.1:
        raise InputError("The picked place tells no direction.", "Nothing was planned.", "Pick it again.")
    with transaction() as session:
        face = faces_of(session, job_id, face_index)[face_index]
        low, high = np.array(face["box"][:3]), np.array(face["box"][3:])
        reach = 1.0 + 0.01 * float(np.linalg.norm(high - low))  # a picked place lies on triangles
        if np.any(np.array(point) < low - reach) or np.any(np.array(point) > high + reach):
            raise InputError("That place is not on the face.", "Nothing was planned.", "Pick it again.")
        nominal = {"shape": "plane", "point": list(point), "normal": list(normal)}
        raw = {"kind": "surface_point", "nominal": nominal, "hits": hits}
        return add_rows(session, actor, job_id, named(session, job_id, [raw], stem))[0]


def checked_stem(stem: str) -> str:
    """What rows are to be called, before their number. Raises InputError."""
    stem = stem.strip()
    if len(stem) > 70:
        raise InputError("The name has more than 70 letters.", "Nothing was planned.", "Type a shorter one.")
    return stem


def plan_alike(actor: Actor, job_id: int, face_index: int, stem: str = "") -> list[int]:
    """A row for each thing that is alike the one with a picked face, in one act. ``stem``: what they are called."""
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        faces = faces_of(session, job_id, face_index)
        raws = [_raw_of_face(faces[index]) for index in alike_on(session, job_id, face_index)]
        return add_rows(session, actor, job_id, named(session, job_id, raws, stem))


def alike_on(session: Session, job_id: int, face_index: int) -> list[int]:
    """A face of each thing alike the one with a picked face, that one first."""
    job = stored(session, Job, job_id)
    return [thing[0] for thing in alike(job.part.faces, face_index, job.kept_bodies)]


def faces_of(session: Session, job_id: int, index: int) -> list[dict[str, Any]]:
    """All faces of a job's part. Raises InputError where there is none of that number."""
    faces = stored(session, Part, stored(session, Job, job_id).part_id).faces
    if not 0 <= index < len(faces):
        raise InputError("That face is not on this part.", "Nothing was changed.", "Pick a face on the stage.")
    return faces


def _raw_of_face(face: Mapping[str, Any]) -> dict[str, Any]:
    kind = planned_as(face)
    if kind is None:
        raise InputError(
            f"This face is a {face['surface']}.", "Nothing was planned.", "Pick another, or type what it should be."
        )
    return kind.of_face(face["index"], face["nominal"], bool(face["inside"]))


def kind_for_face(face: Mapping[str, Any]) -> type[MeasuredRecipe] | None:
    """The kind that measures a shape such as the face is of, or None."""
    nominal = face["nominal"]
    return measured_as(shape_from_data(nominal)) if nominal else None


def planned_as(face: Mapping[str, Any]) -> type[MeasuredRecipe] | None:
    """The kind that a row of such a face is; a free surface too, but not a mesh."""
    return of_free_faces() if face["surface"] == FREE else kind_for_face(face)


def plan_typed(actor: Actor, job_id: int, kind: str, texts: Mapping[str, str]) -> int:
    """A row of any kind, as typed in its form, in the job's units. Returns its id."""
    actor.must_change()
    with transaction() as session:
        units = stored(session, Job, job_id).units
        return add_rows(session, actor, job_id, named(session, job_id, [data_of(kind, texts, units)]))[0]


def last_plan(session: Session, job_id: int) -> LastPlan | None:
    """What would be taken back."""
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
        others = session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None), Row.id.not_in(ids)))
        left = list(others)
        needing = [row.recipe["name"] for row in left if rests_on(recipe_of(row), ids)]
        if needing:
            raise InputError(f"{_some(needing)} rests on it.", "Nothing was taken back.", "Remove that first.")
        for row in rows:
            row.removed_at = datetime.now(UTC)
        if job.current_row_id in ids:
            job.current_row_id = next((row.id for row in left if kind_of(row.recipe).takes_hits), None)
        if job.alignment_row_id in ids:
            job.alignment_row_id = None
        session.add(Change(user_id=actor.id, job_id=job_id, act="take plan back", detail={"rows": sorted(ids)}))
        tell(session, job_id, "sheet")
        return len(rows)


def rests_on(recipe: RowRecipe, ids: Collection[int]) -> bool:
    """The recipe names one of some rows."""
    return any(n.id in ids and n.what != "station" for n in needs_of(recipe))


def _some(names: Sequence[str]) -> str:
    """Names in a sentence, not too many of them."""
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + more


# ---- lists of points -----------------------------------------------------------------------

LONGEST_LIST = 2_000_000  # letters


def read_list(session: Session, job_id: int, text: str, units: str) -> PointList:
    """A list of points as it would be planned; a name that is on the sheet already is a fault of its line."""
    if units not in ("mm", "in"):
        raise InputError("Lengths are mm or inches.", "Nothing was planned.", "Choose mm or in.")
    if len(text) > LONGEST_LIST:
        raise InputError("The list is larger than 2 MB.", "Nothing was planned.", "Divide it.")
    found = read_points(text, cast(Units, units))
    there = set(names_of(session, job_id))
    lines = text.splitlines()
    return found.refused(
        Fault(p.line, f"“{p.name}” is on the sheet already.", lines[p.line - 1][:80]) for p in found.points if p.name in there
    )


def doubt_of_units(session: Session, job_id: int, found: PointList, units: Units) -> str:
    """A sentence where the list lies far off the part, or is far smaller: a wrong unit is worth the whole job."""
    boxes = [face["box"] for face in stored(session, Job, job_id).part.faces]
    if not boxes or len(found.points) < 2:
        return ""
    low, high = np.array(boxes)[:, :3].min(axis=0), np.array(boxes)[:, 3:].max(axis=0)
    at, size = np.array([p.at for p in found.points]), float(np.linalg.norm(high - low))
    reach, off = float(np.linalg.norm(np.ptp(at, axis=0))), float(np.max(np.maximum(low - at, at - high)))
    if off < size and reach > size / MM_PER_INCH:
        return ""
    words = f"The points are {mm(reach, '.1f')} from end to end, and the part {mm(size, '.1f')}"
    words += f"; the farthest lies {mm(off, '.1f')} off the part." if off > 0 else "."
    return sentence_in(f"{words} Look whether the list is in {'inches' if off < size else 'this unit'}.", units)


def plan_list(actor: Actor, job_id: int, text: str, units: str) -> list[int]:
    """A row for each point of a list, in one act: a surface point where its direction is told, else a point.

    Only whole lists are kept: raises InputError where one line does not read.
    """
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        recipes = [recipe_from_dict(_raw_of_point(point)) for point in whole_list(session, job_id, text, units)]
        return add_rows(session, actor, job_id, recipes)


def whole_list(session: Session, job_id: int, text: str, units: str) -> tuple[ListedPoint, ...]:
    """The points of a list. Raises InputError where one line does not read."""
    found = read_list(session, job_id, text, units)
    if found.faults:
        first = found.faults[0]
        raise InputError(
            f"Line {first.line}: {first.words}" + (f" {len(found.faults) - 1} more." if len(found.faults) > 1 else ""),
            "Nothing of the list was planned.",
            "Mend the list, and bring it in again.",
        )
    return found.points


def _raw_of_point(point: ListedPoint) -> dict[str, Any]:
    if point.normal is None:
        return {"kind": "point", "name": point.name, "nominal": {"shape": "point", "position": point.at}}
    nominal = {"shape": "plane", "point": point.at, "normal": point.normal}
    return {"kind": "surface_point", "name": point.name, "nominal": nominal}
