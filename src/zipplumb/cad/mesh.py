"""The mesh of a CAD model as pictures are drawn from it."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from numpy.typing import NDArray

from ..core.pictures.drawing import Mesh
from .model import CadModel


def mesh_of(model: CadModel, bodies: Collection[int] | None = None) -> Mesh:
    """Of the whole, or of some of its bodies by their numbers."""
    kept = np.array([bodies is None or face.body in bodies for face in model.faces], bool)
    faces = np.repeat(np.arange(len(model.faces)), _counts(model.face_triangles))
    starts, counts = model.edge_starts[:-1].astype(np.int64), _counts(model.edge_starts) - 1
    edges = np.repeat(np.arange(len(counts)), np.maximum(counts, 0))
    if bodies is not None:
        edges = edges[np.isin(model.edge_bodies[edges], list(bodies))]
    within = np.arange(len(edges)) - np.searchsorted(edges, edges)
    first = starts[edges] + within
    lines = np.stack([model.edge_points[first], model.edge_points[first + 1]], axis=1).astype(float)
    some = kept[faces] if len(faces) else np.zeros(0, bool)
    return Mesh(
        model.positions.astype(float), model.normals.astype(float), model.triangles[some], faces[some], lines, edges
    )  # fmt: skip


def _counts(starts: NDArray[np.uint32]) -> NDArray[np.int64]:
    return starts[1:].astype(np.int64) - starts[:-1].astype(np.int64)
