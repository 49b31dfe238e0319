"""Nearest places on a read part: the triangles say which face, the face's own shape says where exactly."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any

import igl
import numpy as np
from numpy.typing import NDArray

from ..core.fitting.placed import Placed
from ..core.shape_codec import shape_from_data
from .model import CadModel

Array = NDArray[np.float64]
Foot = Callable[[Array, Array], tuple[Array, Array]]  # points (n, 3) and where their feet are roughly -> feet, normals


class Surfaces:
    """``nearest`` for alignments that lay hits on surfaces.

    Exact on planes, cylinders, cones, spheres, tori, and free surfaces that are known as splines; of a mesh as near as its
    triangles are. ``only``: of some faces.
    """

    def __init__(self, model: CadModel, only: Sequence[int] | None = None):
        self.corners, self.triangles = model.positions.astype(float), model.triangles.astype(np.int64)
        counts = np.diff(model.face_triangles.astype(int))
        self.face_of = np.repeat(np.arange(len(counts)), counts)
        self.exact = {f.index: _foot_on(shape_from_data(f.nominal), f.inside) for f in model.faces if f.nominal}
        self.exact |= {face: spline.nearest for face, spline in model.splines.items()}
        if only is not None:
            mine = np.isin(self.face_of, np.asarray(only))
            self.triangles, self.face_of = self.triangles[mine], self.face_of[mine]

    @cached_property
    def tree(self) -> Any:
        """Boxes round the triangles, made once: a tip that moves asks thirty times a second."""
        tree = igl.AABB()
        tree.init(self.corners, self.triangles)
        return tree

    def spread(self, count: int, seed: int = 0) -> tuple[Array, Array]:
        """So many places (n, 3) all over the part, at random, each piece as likely; and the normals out of the material."""
        random = np.random.default_rng(seed)
        a, b, c = self.corners[self.triangles].transpose(1, 0, 2)
        normals = np.cross(b - a, c - a)
        areas = np.linalg.norm(normals, axis=1)
        which = random.choice(len(areas), count, p=areas / areas.sum())
        weights = random.dirichlet((1, 1, 1), count)
        points = weights[:, :1] * a[which] + weights[:, 1:2] * b[which] + weights[:, 2:] * c[which]
        return points, normals[which] / areas[which][:, None]

    def nearest(self, points: Array) -> tuple[Array, Array]:
        """Feet (n, 3) of points on the part, and the normals (n, 3) out of the material there."""
        return self.nearest_faces(points)[:2]

    def nearest_faces(self, points: Array) -> tuple[Array, Array, NDArray[np.int64]]:
        """The same, and the number of the face of each."""
        points = np.ascontiguousarray(points, float)
        _, triangles, feet = self.tree.squared_distance(self.corners, self.triangles, points)
        a, b, c = self.corners[self.triangles[triangles]].transpose(1, 0, 2)
        normals = np.cross(b - a, c - a)
        normals /= np.linalg.norm(normals, axis=1)[:, None]
        faces = self.face_of[triangles]
        for face in np.unique(faces).tolist():
            if foot := self.exact.get(face):
                mine = faces == face
                feet[mine], normals[mine] = foot(points[mine], feet[mine])
        return feet, normals, faces


def _foot_on(shape: Any, inside: bool | None) -> Foot:
    """The foot on a surface without boundary."""
    placed, outward = Placed.of(shape), -1.0 if inside else 1.0

    def foot(points: Array, near: Array) -> tuple[Array, Array]:
        gradient = placed.gradients(points)
        return points - placed.residuals(points)[:, None] * gradient, outward * gradient

    return foot
