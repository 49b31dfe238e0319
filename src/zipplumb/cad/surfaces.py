"""Nearest places on a read part: the triangles say which face, the face's own shape says where exactly."""

from __future__ import annotations

from typing import Any

import igl
import numpy as np
from numpy.typing import NDArray

from ..core.fitting.placed import Placed
from ..core.shape_codec import shape_from_data
from .model import CadModel

Array = NDArray[np.float64]


class Surfaces:
    """``nearest`` for alignments that lay hits on surfaces.

    Exact on planes, cylinders, cones, spheres and tori; on other surfaces as near as their triangles are.
    """

    def __init__(self, model: CadModel):
        self.corners, self.triangles = model.positions.astype(float), model.triangles.astype(np.int64)
        counts = np.diff(model.face_triangles.astype(int))
        self.face_of = np.repeat(np.arange(len(counts)), counts)
        self.shapes = [shape_from_data(f.nominal) if f.nominal else None for f in model.faces]
        self.outward = np.array([-1.0 if f.inside else 1.0 for f in model.faces])

    def nearest(self, points: Array) -> tuple[Array, Array]:
        """Feet (n, 3) of points on the part, and the normals (n, 3) out of the material there."""
        points = np.ascontiguousarray(points, float)
        _, triangles, feet = igl.point_mesh_squared_distance(points, self.corners, self.triangles)
        a, b, c = self.corners[self.triangles[triangles]].transpose(1, 0, 2)
        normals = np.cross(b - a, c - a)
        normals /= np.linalg.norm(normals, axis=1)[:, None]
        faces = self.face_of[triangles]
        for face in np.unique(faces):
            if self.shapes[face] is not None:
                mine = faces == face
                feet[mine], normals[mine] = _exact(self.shapes[face], points[mine], self.outward[face])
        return feet, normals


def _exact(shape: Any, points: Array, outward: float) -> tuple[Array, Array]:
    """Feet on a surface without end, and the normals there, + out of the material."""
    placed = Placed.of(shape)
    gradient = placed.gradients(points)
    return points - placed.residuals(points)[:, None] * gradient, outward * gradient
