"""The holes and slots that a scan has in a face: seen first, then made rows."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core.cloud.openings import Opening, openings
from ...core.errors import InputError
from ...core.features import sizes_of
from ...core.fingerprints import fingerprint
from ...core.shape_codec import shape_from_data, shape_to_data
from ...core.shapes import Circle, Plane, Slot
from ...core.sheet import RowRecipe
from ...core.units import Units, length_text
from ...store.database import stored, transaction
from ...store.models import Job, Row
from ..actor import Actor
from ..plan.adding import add_rows, checked_stem, named
from ..state.results import JobResults, load
from .clouds import cloud_of, plane_of, scan_row

PLANNED_MM, PLANNED_SHARE = 2.0, 0.1  # so near to an outline of the CAD, and to its sizes, it is that one
SAME_WAY = 0.98


@dataclass(frozen=True, eq=False)
class FoundOpenings:
    """``face`` and openings in the world; ``seen`` names what a person saw; ``plane``: the row of the face, or None."""

    face: Plane
    each: list[Opening]
    seen: str
    plane: int | None


def find(state: JobResults, scan_id: int, plane_id: int | None) -> FoundOpenings:
    """In the plane of a row, or, without one, in the flattest that the scan has."""
    cloud = cloud_of(state, scan_id)
    if not len(cloud.edges):
        raise InputError("The scan has no edges yet.", "Nothing was planned.", "Finish it, and wait until it is worked out.")
    face, _ = plane_of(state, scan_id, plane_id)
    return FoundOpenings(face, openings(cloud.edges, face), fingerprint(cloud.key, str(plane_id)), plane_id)


def plan(
    actor: Actor, job_id: int, scan_id: int, plane_id: int | None, chosen: Collection[int], seen: str, stem: str
) -> list[int]:
    """A row for each chosen opening (by its place among those found), in one act, and one for their face where it has none.

    They take the scan's edges. ``stem``: what round holes are called. Returns the rows' ids.
    """
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, _ = scan_row(session, job_id, scan_id)
        state = load(session, job_id)
        found = find(state, scan_id, plane_id)
        if found.seen != seen or not all(0 <= k < len(found.each) for k in chosen):
            raise InputError("The scan was changed meanwhile.", "Nothing was planned.", "Look for the holes once more.")
        if not chosen:
            raise InputError("No hole is chosen.", "Nothing was planned.", "Choose some of those that were found.")
        if plane_id is None:
            face = {"kind": "plane", "seen_at": shape_to_data(found.face), "scans": [scan_id]}
            planes = add_rows(session, actor, job_id, named(session, job_id, [face]))
        else:
            planes = []
        raws = [_raw(state, found.each[k].shape, scan_id, (plane_id, *planes)[-1]) for k in sorted(chosen)]
        rows = [*planes, *add_rows(session, actor, job_id, _named(session, job_id, raws, stem), _act_of(session, planes))]
        for row_id in rows:
            stored(session, Row, row_id).finished_at = scan.finished_at
        return rows


def _act_of(session: Session, rows: list[int]) -> int | None:
    return stored(session, Row, rows[0]).planned_by if rows else None


def _raw(state: JobResults, shape: Circle | Slot, scan_id: int, plane_id: int | None) -> dict[str, Any]:
    """Plain data of its row. Where the part is aligned, the CAD's outline that lies there is its nominal."""
    data = shape_to_data(shape)
    raw = {"kind": data["shape"], "seen_at": data, "inside": True, "scans": [scan_id], "plane": plane_id, "nominal": None}
    if isinstance(shape, Slot):
        raw["ends"] = shape.ends
    if state.alignment is not None:
        placed = shape.moved(state.alignment.part_from_world)
        raw["nominal"] = next((e["nominal"] for e in state.job.part.edges if _is_that(e, placed)), None)
    return raw


def _is_that(edge: dict[str, Any], found: Circle | Slot) -> bool:
    nominal = shape_from_data(edge["nominal"]) if edge["nominal"] and edge["inside"] is not False else None
    if type(nominal) is not type(found) or nominal.fits_as != found.fits_as:
        return False
    sizes = np.array([[getattr(each, name) for name in sizes_of(found)] for each in (nominal, found)])
    near = np.linalg.norm(nominal.center - found.center) < PLANNED_MM and abs(float(nominal.normal @ found.normal)) > SAME_WAY
    return bool(near and np.all(np.abs(sizes[0] - sizes[1]) < np.maximum(PLANNED_SHARE * sizes[0], PLANNED_SHARE)))


def _named(session: Session, job_id: int, raws: list[dict[str, Any]], stem: str) -> list[RowRecipe]:
    """Round ones by the stem, slots by their kind, in the order in which they are."""
    by_stem: dict[str, list[dict[str, Any]]] = {stem if raw["kind"] == "circle" else "": [] for raw in raws}
    for raw in raws:
        by_stem[stem if raw["kind"] == "circle" else ""].append(raw)
    made = {called: iter(named(session, job_id, some, called)) for called, some in by_stem.items()}
    return [next(made[stem if raw["kind"] == "circle" else ""]) for raw in raws]


def words_of(opening: Opening, units: Units) -> str:
    """What it is and its size."""
    shape = opening.shape
    if isinstance(shape, Slot):
        called = "Slot" if shape.ends == "round" else "Slot, square ends"
        return f"{called} {length_text(shape.length, units)} × {length_text(shape.width, units)}"
    return f"Ø {length_text(2 * shape.radius, units)}"
