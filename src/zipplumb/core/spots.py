"""Suggested places for hits on a face: evenly spread and clear of its edges."""

from __future__ import annotations

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from . import kernels
from .frames import Array, unit

CLEAR_MM = 6.0
BALL_MM, ROOM = 3.2, 0.6  # a ball that nears an inner corner more than its radius meets the other wall first


def spots_on(corners: Array, normals: Array, count: int = 240, seed: int = 1) -> tuple[Array, Array]:
    """Points spread over a face's triangles, clear of its edges where there is room.

    Parameters
    ----------
    corners, normals : (t, 3, 3) arrays of the face's triangles
    """
    random = np.random.default_rng(seed)
    sides = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    areas = np.linalg.norm(sides, axis=1)
    if areas.sum() == 0:
        return np.empty((0, 3)), np.empty((0, 3))
    which = random.choice(len(corners), 12 * count, p=areas / areas.sum())
    weights = random.dirichlet((1, 1, 1), len(which))
    points = np.einsum("nk,nkj->nj", weights, corners[which])
    outward = unit(np.einsum("nk,nkj->nj", weights, normals[which]))
    clear = _from_boundary(points, corners)
    wanted = min(CLEAR_MM, max(float(np.quantile(clear, 0.5)), min(BALL_MM, ROOM * float(clear.max()))))
    good = np.flatnonzero(clear >= wanted)[:count]
    return points[good], outward[good]


def _from_boundary(points: Array, corners: Array) -> Array:
    """Distance of points to the edges that only one triangle has."""
    ends = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    names = np.round(ends, 3)
    differ = names[:, 0] - names[:, 1]
    flip = np.take_along_axis(differ, np.argmax(differ != 0, axis=1)[:, None], axis=1)[:, 0] > 0
    names[flip] = names[flip][:, ::-1]
    _, first, counts = np.unique(names.reshape(-1, 6), axis=0, return_index=True, return_counts=True)
    edges = ends[first[counts == 1]]
    if not len(edges):
        return np.full(len(points), np.inf)
    return np.asarray(kernels.from_edges(np.ascontiguousarray(points), np.ascontiguousarray(edges)))


def outermost(points: Array) -> Array:
    """The points (n, 3) on the convex hull; of few, or of flat ones, the corners of their box."""
    if len(points) > 4:
        try:
            return np.asarray(points[ConvexHull(points).vertices])
        except QhullError:
            pass
    if not len(points):
        return np.empty((0, 3))
    low, high = points.min(axis=0), points.max(axis=0)
    return np.unique(np.array(np.meshgrid(*zip(low, high, strict=True))).reshape(3, -1).T, axis=0)
