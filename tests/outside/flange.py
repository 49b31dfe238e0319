"""A wavy flange as triangles, and the nearest point on triangles by scipy and trimesh."""

from __future__ import annotations

import numpy as np
import trimesh
from scipy.spatial import cKDTree


def flange() -> trimesh.Trimesh:
    x, y = np.meshgrid(np.linspace(0, 400, 81), np.linspace(0, 240, 49), indexing="ij")
    z = 20 * np.sin(x / 60) * np.cos(y / 45) + x * y / 4000
    corner = np.arange(x.size).reshape(x.shape)
    quads = np.stack([corner[:-1, :-1], corner[1:, :-1], corner[1:, 1:], corner[:-1, 1:]], axis=-1).reshape(-1, 4)
    faces = np.vstack([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    return trimesh.Trimesh(np.column_stack([x.ravel(), y.ravel(), z.ravel()]), faces, process=False)


def on_mesh(mesh):
    """Nearest point over the triangles whose middles are nearest."""
    tree = cKDTree(mesh.triangles_center)

    def nearest(points):
        _, near = tree.query(points, k=12)
        feet = trimesh.triangles.closest_point(mesh.triangles[near.ravel()], np.repeat(points, 12, axis=0)).reshape(-1, 12, 3)
        best = np.argmin(np.linalg.norm(feet - points[:, None], axis=2), axis=1)
        rows = np.arange(len(points))
        return feet[rows, best], mesh.face_normals[near[rows, best]]

    return nearest
