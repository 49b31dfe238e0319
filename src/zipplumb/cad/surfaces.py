"""Nearest places on a read part: the triangles say which face, the face's own shape says where exactly."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import Any

import igl
import numpy as np
from numpy.typing import NDArray

from ..core.fitting.placed import Placed
from ..core.shape_codec import shape_from_data
from .blocks import NOBODY, Blocks
from .model import CadModel

Array = NDArray[np.float64]
Foot = Callable[[Array, Array], tuple[Array, Array]]  # points (n, 3) and where their feet are roughly -> feet, normals
MANY = 400_000  # points, asked for so far, from which on it pays to look once which faces are near to every block of space
ASIDE_MM = 1e-6


class Surfaces:
    """``nearest`` for alignments that lay hits on surfaces.

    Exact on planes, cylinders, cones, spheres, tori, and free surfaces that are known as splines; of a mesh as near as its
    triangles are. ``only``: of some faces.
    """

    def __init__(self, model: CadModel, only: Sequence[int] | None = None):
        self.corners, self.triangles = model.positions.astype(float), model.triangles.astype(np.int64)
        counts = np.diff(model.face_triangles.astype(int))
        self.face_of = np.repeat(np.arange(len(counts)), counts)
        self.asked = 0
        self.exact = {f.index: _foot_on(shape_from_data(f.nominal), f.inside) for f in model.faces if f.nominal}
        self.exact |= {face: spline.nearest for face, spline in model.splines.items()}
        if only is not None:
            mine = np.isin(self.face_of, np.asarray(only))
            self.triangles, self.face_of = self.triangles[mine], self.face_of[mine]

    @cached_property
    def area(self) -> float:
        """mm², of its triangles."""
        a, b, c = self.corners[self.triangles].transpose(1, 0, 2)
        return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()) / 2

    @cached_property
    def tree(self) -> Any:
        """Boxes round the triangles, made once: a tip that moves asks thirty times a second."""
        tree = igl.AABB()
        tree.init(self.corners, self.triangles)
        return tree

    @cached_property
    def _blocks(self) -> Blocks:
        return Blocks.of(self.corners, self.triangles, self.face_of)

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

    def nearest_faces(self, points: Array) -> tuple[Array, Array, NDArray[np.int64], Array]:
        """The same, the number of the face of each, and where on the face (n, 3) roughly: a foot on the face's own surface may
        lie beyond its borders, this does not."""
        points = np.ascontiguousarray(points, float)
        self.asked += len(points)
        if self.asked < MANY:
            return self._by_triangles(points)
        feet, normals, faces = np.empty_like(points), np.empty_like(points), np.full(len(points), NOBODY)
        sure = self.by_blocks(self._blocks, points, feet, normals, faces)
        on_it = feet.copy()
        feet[~sure], normals[~sure], faces[~sure], on_it[~sure] = self._by_triangles(points[~sure])
        return feet, normals, faces, on_it

    def _by_triangles(self, points: Array) -> tuple[Array, Array, NDArray[np.int64], Array]:
        _, triangles, on_it = self.tree.squared_distance(self.corners, self.triangles, points)
        feet = on_it.copy()
        a, b, c = self.corners[self.triangles[triangles]].transpose(1, 0, 2)
        normals = np.cross(b - a, c - a)
        normals /= np.linalg.norm(normals, axis=1)[:, None]
        faces = self.face_of[triangles]
        for face, mine in _each(faces):
            if foot := self.exact.get(face):
                feet[mine], normals[mine] = foot(points[mine], on_it[mine])
        return feet, normals, faces, on_it

    def by_blocks(
        self, blocks: Blocks, points: Array, feet: Array, normals: Array, faces: NDArray[np.int64]
    ) -> NDArray[np.bool_]:
        """Fill in the feet on faces that are the only ones near; tells (n,) of which points."""
        sure = np.zeros(len(points), bool)
        for face, mine in _each(blocks.face_at(points)):
            if foot := self.exact.get(face):
                feet[mine], normals[mine] = foot(points[mine], points[mine])
                off = points[mine] - feet[mine]
                along = np.einsum("ij,ij->i", off, normals[mine])
                square = np.einsum("ij,ij->i", off, off) - along**2 < ASIDE_MM**2  # else its foot is on a border
                sure[mine] = square & (np.abs(along) < blocks.sure_mm) & blocks.has(feet[mine], face)
                faces[mine] = face
        return sure


def _each(faces: NDArray[np.int64] | NDArray[np.int32]) -> Iterator[tuple[int, NDArray[np.int64]]]:
    """Each face and the points that are its own."""
    order = np.argsort(faces, kind="stable")
    found, first = np.unique(faces[order], return_index=True)
    return zip(found.tolist(), np.split(order, first[1:])[: len(found)], strict=True)


def _foot_on(shape: Any, inside: bool | None) -> Foot:
    """The foot on a surface without boundary."""
    placed, outward = Placed.of(shape), -1.0 if inside else 1.0

    def foot(points: Array, near: Array) -> tuple[Array, Array]:
        gradient = placed.gradients(points)
        return points - placed.residuals(points)[:, None] * gradient, outward * gradient

    return foot
