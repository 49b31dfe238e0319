"""What is there where one points at a scan: the surface of a known shape that grows from that place, as far as it goes on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..errors import FitError
from ..fitting import FitResult, Placed, fit
from ..frames import Array, Indices
from .giving import OF_A_ROW, GivenPoints, evenly
from .points import CloudPoints
from .sorting import with_the_others

KINDS = ("plane", "sphere", "cylinder", "cone", "torus")  # the simpler first
BAND_MM, ANGLE_RAD = 0.25, 0.35  # points of a surface lie so near to it, and face as it does
SURELY_MM = 0.08  # one that leaves no more, on average, is that surface
AS_MEASURED_MM = 0.5  # those that a row measures: the surface's own form is among it
STARTS = (5, 10, 20, 40)  # points across the patch from which it grows
SMOOTH_RAD = 0.45  # by which normals of neighbours differ at most, within a patch
NEIGHBOURS, ACROSS_GAPS = 2.2, 4.0  # points apart
ROUNDS, GROWTH = 12, 1.02  # until it grows no more
LOOKED_AT, FITTED = 300, 1_500  # points that are fitted while it grows, and at last
HARDLY = 0.5  # one that takes less of the points, or leaves so many times as much, is not told of
LEAST_SIZE = 1e-3  # mm, or rad
FEWEST = 12  # points of a surface
SIMPLER, NEARER = 0.9, 0.7  # a simpler shape does that takes so many of the points, unless another lies so much nearer to them


@dataclass(frozen=True, eq=False)
class GrownSurface:
    """A surface in the world: ``kind`` of shape, and its ``fit``; the points of the scan that are its own: ``members``."""

    kind: str
    fit: FitResult
    members: Indices
    inside: bool

    @property
    def shape(self) -> Any:
        return self.fit.shape


def surfaces_at(cloud: CloudPoints, place: Array) -> list[GrownSurface]:
    """What may be at a place (3,): of each shape what grows from there, the likeliest first; empty where nothing does.

    Notes
    -----
    Region growing with refits (P. Besl, R. Jain, "Segmentation through variable-order surface fitting", IEEE PAMI 10, 1988):
    each shape is fitted to patches of several sizes that are smooth about the place, takes all that lies on it and goes on
    from there, and is fitted again.
    """
    sure = np.flatnonzero(np.isfinite(cloud.normals[:, 0]))
    if len(sure) < FEWEST:
        return []
    cloud = cloud.of(sure)
    seed = int(cloud.tree.query(place)[1])
    apart = _apart(cloud, cloud.points[seed])
    patches = [patch for across in STARTS if len(patch := _patch(cloud, seed, across * apart / 2, apart)) >= FEWEST]
    found = [grown for kind in KINDS if (grown := _widest(cloud, kind, patches, seed, apart)) is not None]
    return [GrownSurface(g.kind, g.fit, sure[g.members], g.inside) for g in _likeliest_first(found)]


def _widest(cloud: CloudPoints, kind: str, patches: list[Indices], seed: int, apart: float) -> GrownSurface | None:
    """What grows from the largest patch that is of one surface, or else the most that grows from any."""
    best = None
    for patch in reversed(patches):
        grown = _grown(cloud, kind, patch, seed, apart)
        if grown is not None and (best is None or len(grown.members) > len(best.members)):
            best = grown
        if grown is not None and len(grown.members) >= len(patch) and grown.fit.rms < SURELY_MM:
            break
    return best


def _likeliest_first(found: list[GrownSurface]) -> list[GrownSurface]:
    """The shape that explains most; of those that explain about as much the simplest, unless another lies nearer.

    What takes few of the points, or leaves much, is none."""
    if not found:
        return []
    sure = [g for g in found if g.fit.rms <= SURELY_MM] or found
    most = max(len(g.members) for g in sure)
    near = [g for g in sure if len(g.members) >= SIMPLER * most]
    nearest = min(g.fit.rms for g in near)
    best = next(g for g in near if NEARER * g.fit.rms <= nearest)
    others = [g for g in found if g is not best and len(g.members) >= HARDLY * most and HARDLY * g.fit.rms <= best.fit.rms]
    return [best, *sorted(others, key=lambda g: -len(g.members))]


def _apart(cloud: CloudPoints, place: Array) -> float:
    """How far apart points are, mm: mostly, or, where light is sparser there, about a place."""
    return max(cloud.spacing_mm, float(cloud.apart_at(place[None])[0]))


def _patch(cloud: CloudPoints, seed: int, radius: float, apart: float) -> Indices:
    """Points about one that it reaches by steps to neighbours which face nearly as it does."""
    near = np.array(cloud.tree.query_ball_point(cloud.points[seed], radius), np.int64)
    points, normals = cloud.points[near], cloud.normals[near]
    pairs = cKDTree(points).query_pairs(NEIGHBOURS * apart, output_type="ndarray")
    alike = np.einsum("ij,ij->i", normals[pairs[:, 0]], normals[pairs[:, 1]]) >= np.cos(SMOOTH_RAD)
    return near[_with(pairs[alike], len(near), int(np.flatnonzero(near == seed)[0]))]


def _with(pairs: NDArray[Any], count: int, one: int) -> Indices:
    """Which of so many hang together with one."""
    links = coo_array((np.ones(len(pairs), bool), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    label = connected_components(links, directed=False)[1]
    return np.flatnonzero(label == label[one])


def _grown(cloud: CloudPoints, kind: str, patch: Indices, seed: int, apart: float) -> GrownSurface | None:
    """A shape fitted to a patch, grown as far as it goes; None where it is no such surface."""
    members, result, before = patch, None, 0
    try:
        for _ in range(ROUNDS):
            result = fit(kind, cloud.points[evenly(members, LOOKED_AT)], thorough=False)
            members = _on(cloud, result.shape, cloud.points[seed], BAND_MM, apart)
            if len(members) < max(FEWEST, len(patch) // 2) or seed not in members:
                return None
            if len(members) < GROWTH * before:
                break
            before = len(members)
        open_side = cloud.normals[members].mean(axis=0)
        result = fit(kind, cloud.points[evenly(members, FITTED)], toward=open_side, thorough=False)
    except FitError:
        return None
    if any(not LEAST_SIZE < getattr(result.shape, name) < np.inf for name in result.shape.sizes_):
        return None  # a cone without an angle, as a cylinder is one
    outward = np.einsum("ij,ij->i", Placed.of(result.shape).gradients(cloud.points[members]), cloud.normals[members])
    return GrownSurface(kind, result, members, bool(np.median(outward) < 0))


def _on(cloud: CloudPoints, shape: Any, place: Array, band_mm: float, apart: float) -> Indices:
    """The points that lie on a shape, face as it does, and hang together with a place on it."""
    near = np.flatnonzero(np.abs(shape.distance(cloud.points)) <= band_mm)
    facing = np.einsum("ij,ij->i", Placed.of(shape).gradients(cloud.points[near]), cloud.normals[near])
    near = near[np.abs(facing) >= np.cos(ANGLE_RAD)]
    return near[_hangs_together(cloud.points[near], place, ACROSS_GAPS * apart)] if len(near) else near


def _hangs_together(points: Array, place: Array, gap_mm: float) -> Indices:
    """Those of the points (n, 3) that hang together with the one nearest to a place: in cubes of a grid that touch."""
    cubes, of_cube = np.unique(np.floor(points / gap_mm).astype(np.int64), axis=0, return_inverse=True)
    pairs = cKDTree(cubes).query_pairs(1.8, output_type="ndarray")  # also over a corner: the square root of three
    nearest = int(np.argmin(((points - place) ** 2).sum(axis=1)))
    hang = np.zeros(len(cubes), bool)
    hang[_with(pairs, len(cubes), int(of_cube.ravel()[nearest]))] = True
    return np.flatnonzero(hang[of_cube.ravel()])


def given_on(cloud: CloudPoints, shape: Any, place: Array, most: int = OF_A_ROW) -> GivenPoints:
    """The points of a surface that was seen at a place; those at its ends, where light is mixed, and what lies off the others
    are left out."""
    sure = cloud.of(np.flatnonzero(np.isfinite(cloud.normals[:, 0])))
    if not len(sure):
        return GivenPoints(sure.points, sure.lines)
    mine = _on(sure, shape, place, AS_MEASURED_MM, _apart(sure, place))
    inner = mine[~_at_an_end(cloud, sure.points[mine])]
    mine = inner if 2 * len(inner) > len(mine) else mine  # a narrow surface is all ends
    mine = mine[with_the_others(shape.distance(sure.points[mine]))]
    mine = evenly(mine, most)
    return GivenPoints(sure.points[mine], sure.lines[mine])


def _at_an_end(cloud: CloudPoints, points: Array) -> NDArray[np.bool_]:
    """Next to points whose normals are not sure."""
    unsure = cloud.points[~np.isfinite(cloud.normals[:, 0])]
    if not len(unsure):
        return np.zeros(len(points), bool)
    return np.isfinite(cKDTree(unsure).query(points, distance_upper_bound=cloud.spacing_mm)[0])
