"""Nominals that hits lie near: rows that wait for hits, and faces of the CAD."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, cast

import numpy as np

from ...core.fitting.recognise import Nominal, touched_nominals
from ...core.frames import Array
from ...core.shape_codec import shape_from_data
from ...core.shapes import Circle, Cone, Cylinder, Plane, Sphere, Torus
from ...core.sheet import MeasuredRecipe, SheetRow, recipe_from_dict
from ..plan.picking import kind_for_face
from ..state.results import JobResults
from ..words import words_for

REACH_MM = 20.0
LEAST_SURE = 1e-3
MOST = 3
ROUND_A_POINT_MM = 15.0
SURFACES = (Plane, Cylinder, Cone, Sphere, Torus)


@dataclass(frozen=True)
class Option:
    """One candidate for some hits: a kind of fit, a planned row, or a face of the CAD.

    ``code``: names it, as "fit:circle", "row:12" or "face:7"; ``error_mm``: rms of what it leaves.
    """

    code: str
    words: str
    error_mm: float
    sure: float


def nominals_near(state: JobResults, hits_part: Array) -> list[Option]:
    """Rows that wait, and faces of the part, that hits (n, 3) may be of, the likeliest first."""
    if not len(hits_part):
        return []
    radius = max((c.radius_mm for c in state.kit.calibrations.values()), default=0.0)
    rows = list(waiting(state))
    of_face = {r.recipe.cad_face: r for r in rows if r.recipe.cad_face is not None}
    words: dict[str, str] = {}
    nominals: list[Nominal] = []
    for face in _faces_near(state, hits_part, radius):
        kind, row = kind_for_face(face), of_face.get(face["index"])
        if kind is None:
            continue
        code = f"row:{row.id}" if row else f"face:{face['index']}"
        blank = recipe_from_dict({**kind.of_face(face["index"], face["nominal"], bool(face["inside"])), "name": "?"})
        words[code] = row.recipe.name if row else f"{words_for(blank).stem(blank)} of the CAD"
        nominals.append(Nominal(code, shape_from_data(face["nominal"]), np.reshape(face["box"], (2, 3))))
    for row in rows:
        if row.recipe.cad_face is None and (nominal := _surface_of(row)) is not None:
            words[nominal.name] = row.recipe.name
            nominals.append(nominal)
    near = touched_nominals(hits_part, nominals, radius, reach_mm=REACH_MM)
    return [Option(n.name, words[n.name], n.off_by_mm, n.sure) for n in near[:MOST] if n.sure > LEAST_SURE]


def waiting(state: JobResults) -> Iterator[SheetRow]:
    """Rows that are planned, and have no hits yet."""
    for row in state.measured:
        if not row.finished and row.id not in state.readings and not row.recipe.proposes:
            yield row


def _surface_of(row: SheetRow) -> Nominal | None:
    """The surface of a row's nominal that is touched, limited to its known extent."""
    recipe = cast(MeasuredRecipe, row.recipe)
    shape = recipe.nominal
    if isinstance(shape, Circle):
        shape = Cylinder(shape.center, shape.normal, shape.radius)
    if not isinstance(shape, SURFACES):
        return None
    corners = None
    if isinstance(shape, Plane) and recipe.shape_type is not Plane:  # a place on a surface
        corners = np.array([shape.point - ROUND_A_POINT_MM, shape.point + ROUND_A_POINT_MM])
    return Nominal(f"row:{row.id}", shape, corners)


def _faces_near(state: JobResults, hits: Array, radius_mm: float) -> list[dict[str, Any]]:
    """Faces of the job's bodies whose boxes are near the hits."""
    faces = state.faces
    if not faces:
        return []
    boxes = np.array([f["box"] for f in faces], float)
    middle, reach = hits.mean(axis=0), REACH_MM + radius_mm
    off = np.maximum(np.maximum(boxes[:, :3] - middle, middle - boxes[:, 3:]), 0.0)
    return [faces[k] for k in np.flatnonzero(np.linalg.norm(off, axis=1) <= reach).tolist()]
