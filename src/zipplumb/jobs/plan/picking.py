"""Rows planned from what is picked on the model: a face, an edge, a place, all that are alike."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.shape_codec import shape_from_data
from ...core.sheet.bases.measured import MeasuredRecipe, measured_as, of_free_faces
from ...store.database import stored, transaction
from ...store.models import Job, Part, Row
from ..actor import Actor
from .adding import add_rows, checked_stem, named, surface_point
from .alike import alike, alike_edges
from .edge_places import place_on_edge

FREE = "free surface"


def plan_from_face(actor: Actor, job_id: int, face_index: int) -> int:
    """A row with the nominal of a picked face. Returns its id."""
    actor.must_change()
    with transaction() as session:
        return plan_face(session, actor, job_id, face_index)


def plan_face(session: Session, actor: Actor, job_id: int, face_index: int) -> int:
    """``plan_from_face`` within a transaction."""
    raw = _raw_of_face(faces_of(session, job_id, face_index)[face_index])
    return add_rows(session, actor, job_id, named(session, job_id, [raw]))[0]


def edge_at(session: Session, job_id: int, index: int) -> dict[str, Any] | None:
    """An edge of the part by its number, where it is known what it is."""
    part = stored(session, Part, stored(session, Job, job_id).part_id)
    return next((edge for edge in part.edges if edge["index"] == index), None)


def plan_from_edge(actor: Actor, job_id: int, edge_index: int) -> int:
    """A row with the nominal of a picked edge, or of the outline that it belongs to; in the plane of its face's row."""
    return _plan_edges(actor, job_id, edge_index, all_alike=False)[0]


def plan_edges_alike(actor: Actor, job_id: int, edge_index: int) -> list[int]:
    """A row for each outline that is alike that of a picked edge, in one act."""
    return _plan_edges(actor, job_id, edge_index, all_alike=True)


def _plan_edges(actor: Actor, job_id: int, edge_index: int, all_alike: bool) -> list[int]:
    actor.must_change()
    with transaction() as session:
        edge = edge_at(session, job_id, edge_index)
        kind = kind_for_face(edge) if edge else None
        if edge is None or kind is None:
            raise InputError("That edge is a free curve.", "Nothing was planned.", "Pick another, or places on it.")
        edges = {e["index"]: e for e in stored(session, Job, job_id).part.edges}
        chosen = [edges[k] for k in edges_alike(session, job_id, edge_index)] if all_alike else [edge]
        raws = [kind.of_edge(e["nominal"], e["inside"], _row_of_face(session, job_id, e["face"])) for e in chosen]
        return add_rows(session, actor, job_id, named(session, job_id, raws))


def edges_alike(session: Session, job_id: int, edge_index: int) -> list[int]:
    """An edge of each outline alike the one with a picked edge, that one first."""
    job = stored(session, Job, job_id)
    return alike_edges(job.part.edges, job.part.faces, edge_index, job.kept_bodies)


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
        return add_rows(session, actor, job_id, named(session, job_id, [surface_point(point, normal, hits=hits)], stem))[0]


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
