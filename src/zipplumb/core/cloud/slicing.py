"""A section through a scan: the points near a plane, slid along their surface into it, and those between two places of it."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from ..frames import Array, Indices, unit
from .cells import facing
from .giving import OF_A_ROW, GivenPoints, evenly
from .points import CloudPoints

GRAZES = 0.2  # sine of the angle between surface and plane, below which nothing tells where they cut
ACROSS_GAPS = 4.0  # usual steps of the scan from one point of a curve to the next
BESIDE = 2.0  # usual steps from the way between two places to what lies on it
ROUND_IT = 16  # points about one, whose normals together tell how its surface slopes
ABOUT, BROAD = 12, 0.15  # points that tell how an unsure one faces, and how broad they lie, of how far they reach


def sliced(cloud: CloudPoints, point: Array, across: Array, thick_mm: float) -> tuple[Indices, Array, Array]:
    """The numbers of the points within ``thick_mm`` to either side of a plane, where (k, 3) in the plane their surface is, and
    how that faces (k, 3).

    Each is slid along the tangent plane of its surface, as those about it face too; what faces no way, or lies along the plane,
    is left out.
    """
    high = (cloud.points - point) @ across
    some = np.flatnonzero(np.abs(high) <= thick_mm)
    normals = _facing(cloud, some)
    cuts = 1 - (normals @ across) ** 2 > GRAZES**2  # NaN does not
    some, normals = some[cuts], normals[cuts]
    if not len(some):
        return some, np.empty((0, 3)), normals
    near = cKDTree(cloud.points[some]).query(cloud.points[some], min(ROUND_IT, len(some)))[1].reshape(len(some), -1)
    normals = unit(normals[near].mean(axis=1))
    slope = normals @ across
    steep = 1 - slope**2 > GRAZES**2
    some, normals, slope = some[steep], normals[steep], slope[steep]
    along = across - slope[:, None] * normals
    return some, cloud.points[some] - (high[some] / (1 - slope**2))[:, None] * along, normals


def _facing(cloud: CloudPoints, some: Indices) -> Array:
    """(k, 3) how some points face; where a thin cloud is not sure of it, as those about them lie, to the side to which the
    nearest that is sure faces."""
    normals = cloud.normals[some]
    open_, sure = np.flatnonzero(np.isnan(normals[:, 0])), np.flatnonzero(np.isfinite(cloud.normals[:, 0]))
    if len(open_) and len(sure) and len(cloud) > ABOUT:
        places = cloud.points[some[open_]]
        like = cloud.normals[sure[cKDTree(cloud.points[sure]).query(places)[1]]]
        near = cloud.tree.query(places, ABOUT)[1]
        normals[open_] = facing(cloud.points, near, -like, BROAD)[0]
    return normals


def between(points: Array, begin: Array, end: Array, step: float) -> Indices:
    """The points (k,) of a curve from one place to another, the shorter way along it, in that order; all that hang together
    where both are one place. None where the light is interrupted between them. ``step``: usual one of the scan, mm."""
    if len(points) < 2:
        return np.empty(0, np.int64)
    tree = cKDTree(points)
    first, last = tree.query(np.array([begin, end]))[1]
    pairs = tree.query_pairs(ACROSS_GAPS * step, output_type="ndarray")
    far = np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1)
    graph = coo_array((far, tuple(pairs.T)), shape=(len(points), len(points))).tocsr()
    if np.linalg.norm(np.subtract(begin, end)) <= step or first == last:
        pieces = connected_components(graph, directed=False)[1]
        return np.flatnonzero(pieces == pieces[first])
    _, before = dijkstra(graph, directed=False, indices=first, return_predecessors=True)
    way = [int(last)]
    while way[-1] != first:
        if before[way[-1]] < 0:
            return np.empty(0, np.int64)
        way.append(int(before[way[-1]]))
    off, at = cKDTree(points[way[::-1]]).query(points)
    ends = (at == 0) | (at == len(way) - 1)  # what is nearest to them may lie beyond
    mine = np.flatnonzero((off <= BESIDE * step) & (~ends | (off == 0)))
    return mine[np.argsort(at[mine], kind="stable")]


def given_between(
    cloud: CloudPoints, point: Array, across: Array, thick_mm: float, begin: Array, end: Array
) -> GivenPoints:  # fmt: skip
    """What a row takes of a section, from one place to another."""
    some, places, _ = sliced(cloud, point, across, thick_mm)
    mine = evenly(between(places, begin, end, cloud.spacing_mm), OF_A_ROW)
    return GivenPoints(places[mine], cloud.lines[some[mine]])
