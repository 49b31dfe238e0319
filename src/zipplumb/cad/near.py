"""Which face of a part is nearest to places, exactly, and how far from its edges."""

from __future__ import annotations

from collections.abc import Set
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..core.frames import Array, Indices
from .model import CadModel
from .surfaces import Surfaces

ALONG_EDGES_MM = 0.25  # from one place on an edge to the next
LONGEST = 2_000_000  # places on all edges


class FacesNear:
    """``exactly``: the faces whose own shape counts, or all (None); of the others the triangles do, which only tell that a
    place is theirs."""

    def __init__(self, model: CadModel, exactly: Set[int] | None):
        self.model, self.surfaces = model, Surfaces(model)
        if exactly is not None:
            self.surfaces.exact = {face: foot for face, foot in self.surfaces.exact.items() if face in exactly}

    def __call__(self, points: Array, margin_mm: float) -> tuple[Array, Array, Indices, NDArray[np.bool_]]:
        """Feet (n, 3), outward normals (n, 3), numbers of the faces (n,), and whether (n,) an edge is within a margin,
        or the feet lie beyond it."""
        feet, normals, faces, on_it = self.surfaces.nearest_faces(points)
        if self._edges is None:
            return feet, normals, faces, np.zeros(len(feet), bool)
        reach = max(margin_mm, ALONG_EDGES_MM)  # what lies beyond a border is nearest to a place on it
        near = np.isfinite(self._edges.query(on_it, distance_upper_bound=reach, workers=-1)[0])
        return feet, normals, faces, near

    def off(self, points: Array) -> Array:
        """How far (n,) places (n, 3) lie off the part."""
        feet, _, _, on_it = self.surfaces.nearest_faces(points)
        return np.maximum(np.linalg.norm(points - feet, axis=1), np.linalg.norm(points - on_it, axis=1))

    @cached_property
    def _edges(self) -> cKDTree | None:
        """Places along all edges."""
        starts, line = self.model.edge_starts.astype(int), self.model.edge_points.astype(float)
        inner = np.ones(max(len(line) - 1, 0), bool)
        inner[starts[1:-1] - 1] = False  # from the end of one line to the begin of another is no edge
        a, b = line[:-1][inner], line[1:][inner]
        if not len(a):
            return None
        long = np.linalg.norm(b - a, axis=1)
        step = max(ALONG_EDGES_MM, float(long.sum()) / LONGEST)
        count = np.maximum(1, np.ceil(long / step)).astype(int)
        which = np.repeat(np.arange(len(a)), count)
        share = (np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)) / count[which]
        return cKDTree(np.vstack([a[which] + share[:, None] * (b - a)[which], b]))
