"""Dimensions between measured features."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.deriving import plane_distance
from ..core.errors import InputError, PlumbError
from ..core.frames import Array
from ..core.shapes import Plane
from ..core.sheet import PlaneRecipe
from ..store.database import transaction
from .actor import Actor
from .results import load
from .sheet import add_row, free_name

MEASURES = {
    "perpendicular": "Perpendicular",
    "along_x": "Along X",
    "along_y": "Along Y",
    "along_z": "Along Z",
}


@dataclass(frozen=True, eq=False)
class Choice:
    """One dimension that two features can make, with its value before it is chosen."""

    measure: str
    words: str
    value_mm: float | None
    why_not: str
    ends_part: tuple[Array, Array] | None


def choices(job_id: int, first: int, second: int) -> tuple[list[Choice], str]:
    """All distances of two planes, each with its value, and a remark on how parallel they are."""
    with transaction() as session:
        state = load(session, job_id)
    results = [state.results.get(i) for i in (first, second)]
    planes = [r.surface_world if r else None for r in results]
    if not all(isinstance(p, Plane) for p in planes):
        raise InputError("A distance so far needs two measured planes.", "Nothing was planned.", "Choose two measured planes.")
    distance = plane_distance(*planes)
    solved = state.results.get(state.job.alignment_row_id)
    motion = solved.alignment.part_from_world if solved and solved.alignment else None
    remark = f"{np.degrees(distance.parallel_rad):.3f}° from parallel"
    out = []
    for k, (measure, words) in enumerate(MEASURES.items()):
        if motion is None:
            value = distance.perpendicular_mm if k == 0 else None
            out.append(Choice(measure, words, value, "" if k == 0 else "needs the part aligned", None))
            continue
        foot, middle = motion.points(distance.foot), motion.points(distance.middle)
        if k == 0:
            out.append(Choice(measure, words, distance.perpendicular_mm, "", (foot, middle)))
        else:
            step = np.zeros(3)
            step[k - 1] = (middle - foot)[k - 1]
            out.append(Choice(measure, words, abs(float(step[k - 1])), "", (middle - step, middle)))
    return out, remark


def plan_distance(actor: Actor, job_id: int, first: int, second: int, measure: str) -> int:
    """A distance row; its nominal comes from the planes' nominals where both have one. Returns its id."""
    actor.must_change()
    with transaction() as session:
        state = load(session, job_id)
        rows = [state.row(i) for i in (first, second)]
        if first == second or not all(isinstance(r.recipe, PlaneRecipe) for r in rows):
            raise InputError("A distance so far needs two different planes.", "Nothing was planned.", "Choose two planes.")
        raw = {
            "kind": "distance",
            "name": free_name(session, job_id, "Distance"),
            "first": first,
            "second": second,
            "measure": measure,
            "nominal_mm": _nominal(rows, measure),
        }
        return add_row(session, actor, job_id, raw)


def _nominal(rows, measure: str) -> float | None:
    if any(r.recipe.nominal is None for r in rows):
        return None
    try:
        distance = plane_distance(*(r.recipe.nominal.as_shape() for r in rows))
    except PlumbError:
        return None
    if measure == "perpendicular":
        return distance.perpendicular_mm
    return abs(float(distance.vector["xyz".index(measure[-1])]))
