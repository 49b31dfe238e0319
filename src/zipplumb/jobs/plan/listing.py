"""Rows planned from a list of points."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import recipe_from_dict
from ...core.units import MM_PER_INCH, Units, mm, sentence_in, units_named
from ...exchange.point_list import Fault, ListedPoint, PointList, read_points
from ...store.database import stored, transaction
from ...store.models import Job
from ..actor import Actor
from .adding import add_rows, names_of, surface_point

LONGEST_LIST = 2_000_000  # letters


def read_list(session: Session, job_id: int, text: str, units: str) -> PointList:
    """A list of points as it would be planned; a name that is on the sheet already is a fault of its line."""
    given = units_named(units)
    if given is None:
        raise InputError("Lengths are mm or inches.", "Nothing was planned.", "Choose mm or in.")
    if len(text) > LONGEST_LIST:
        raise InputError("The list is larger than 2 MB.", "Nothing was planned.", "Divide it.")
    found = read_points(text, given)
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
    """A row for each point of a list, in one act: a surface point where its direction is given, else a point.

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
    return surface_point(point.at, point.normal, name=point.name)
