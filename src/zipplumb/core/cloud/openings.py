"""Round holes and slots of a flat face, from edges of light alone: runs on the face that end round something, where it does not
rise above the face.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..errors import PlumbError
from ..fitting import fit
from ..frames import Array, Indices, perpendicular_pair
from ..shapes import Circle, Plane, Slot
from .edges import Edges
from .faces import lies_on
from .outlines import NEAR_MM, near_outline
from .sorting import NORMAL
from .strewn import circle_among

RISES_MM = 0.3  # what follows a run and stands above its face
GRID_MM, LINKS_MM = 0.5, (6.0, 3.0, 1.5, 0.75)  # edges nearer to each other go round one thing; closer where that is none
KINDS = (("circle",), ("round_slot", "square_slot"))  # the simplest first
FEWEST, ENOUGH = 12, 0.75  # edges of an opening, and the share of those near to it that lie on it
WIDEST_GAP_RAD = 1.75  # round its middle, without an edge
SPREAD_MM, SPREAD_SHARE = 0.16, 0.004  # scatter of edges about what they go round, and by its size
BETTER = 0.5  # the most that a slot's scatter is of a circle's: it has two sizes more to follow false edges with
APART_MM, APART_STREWN_MM = 4.0, 2.0  # from one edge to the next, in the mean; and where others are strewn among them
MOST_STREWN, ABOUT_MM = 40, 1.0  # rounds; edges so near to a circle speak for it or against it
SIGMAS, ROUNDS = 4.0, 12
MANY = 1500  # edges by which an opening is told
ALIKE_SHARE, ALIKE_MM, ROUND_SHARE = 0.01, 0.3, 0.03  # sizes that are one, and how far those on a circle lie from it


@dataclass(frozen=True, eq=False)
class Opening:
    """``shape`` in the world, its normal out of the face; ``edges`` that lie on it, and their ``scatter_mm`` about it."""

    shape: Circle | Slot
    edges: Indices
    scatter_mm: float


def openings(edges: Edges, face: Plane) -> list[Opening]:
    """The round holes and slots in a face whose normal points to the scanner, in order: see ``in_order``."""
    rises = edges.after @ face.normal > RISES_MM
    mine = np.flatnonzero(lies_on(edges, face) & ~rises)
    found: list[Opening] = []
    u, v = perpendicular_pair(face.normal)
    left = np.ones(len(mine), bool)
    for link in LINKS_MM:
        some = mine[left]
        for cluster in _clusters((edges.points[some] - face.point) @ np.column_stack([u, v]), link):
            opening = _told(edges, some[cluster], face)
            if opening is not None:
                found.append(opening)
        taken = np.concatenate([np.empty(0, np.int64), *(each.edges for each in found)])
        left = ~np.isin(mine, taken)
    return in_order(_apart(found + _among_others(edges, mine[left], face)), face)


def _among_others(edges: Edges, some: Indices, face: Plane) -> list[Opening]:
    """Round holes whose edges hang together with those of something else, or are strewn with false ones."""
    new: list[Opening] = []
    random, axes = np.random.default_rng(0), np.column_stack(perpendicular_pair(face.normal))
    for _ in range(MOST_STREWN):
        flat = (edges.points[some] - face.point) @ axes
        circle = circle_among(flat, edges.inward[some] @ axes, random)
        if circle is None:
            break
        center, radius, on_it = circle
        about = np.abs(np.linalg.norm(flat - center, axis=1) - radius) < ABOUT_MM
        opening = _as_one(edges, some[about], face, "circle", APART_STREWN_MM)
        some = np.delete(some, on_it)
        if opening is not None:
            new.append(opening)
            some = some[~np.isin(some, opening.edges)]
    return new


def _clusters(flat: Array, link_mm: float) -> Iterator[Indices]:
    """Places (n, 2) that hang together, the most first."""
    if not len(flat):
        return
    cells, cell = np.unique(np.round(flat / GRID_MM).astype(np.int64), axis=0, return_inverse=True)
    pairs = cKDTree(cells * GRID_MM).query_pairs(link_mm, output_type="ndarray")
    graph = coo_array((np.ones(len(pairs)), pairs.T), shape=(len(cells), len(cells)))
    of = connected_components(graph, directed=False)[1][cell.ravel()]
    for one in np.argsort(-np.bincount(of)):
        members = np.flatnonzero(of == one)
        if len(members) >= FEWEST:
            yield members


def _told(edges: Edges, cluster: Indices, face: Plane) -> Opening | None:
    """What a cluster of edges goes round; None where that is neither round nor a slot."""
    some = cluster[np.linspace(0, len(cluster) - 1, min(len(cluster), MANY)).astype(int)]
    each = edges.of(some)
    away = np.einsum("ij,ij->i", each.inward, each.points - (each.points.max(axis=0) + each.points.min(axis=0)) / 2)
    if np.mean(away > 0) < ENOUGH:  # the outline of the part itself, or of something on it
        return None
    for kinds in KINDS:
        found = [opening for kind in kinds if (opening := _as_one(edges, some, face, kind)) is not None]
        found = [opening for opening in found if kinds == KINDS[0] or _no_circle(edges, opening, face)]
        if found:
            return max(found, key=lambda opening: len(opening.edges))
    return None


def _no_circle(edges: Edges, slot: Opening, face: Plane) -> bool:
    """Whether its edges lie much better on it than on any circle: else it is a round hole that was badly seen."""
    mine = edges.points[slot.edges]
    circle = fit("circle", mine, fixed={"plane": face}).shape
    return slot.scatter_mm < BETTER * float(np.sqrt(np.mean(circle.distance(mine) ** 2)))


def _as_one(edges: Edges, some: Indices, face: Plane, kind: str, apart_mm: float = APART_MM) -> Opening | None:
    """Some edges as one such outline, whose edges lie so far apart at most, in the mean; None where that does not hold."""
    shape = _robust(edges.points[some], face, kind)
    on_it = some if shape is None else near_outline(edges, shape)
    again = None if shape is None or len(on_it) < FEWEST else _robust(edges.points[on_it], face, kind)
    if again is None:
        return None
    shape, on_it = again.turned_like(face.normal), near_outline(edges, again)
    if len(on_it) < max(FEWEST, _round(shape) / apart_mm) or (isinstance(shape, Slot) and shape.width >= shape.length):
        return None
    scatter = float(np.sqrt(np.mean(shape.distance(edges.points[on_it]) ** 2)))
    near = np.abs(shape.distance(edges.points[some])) <= NEAR_MM
    rising = edges.after[on_it] @ face.normal > RISES_MM
    sure = (
        scatter <= SPREAD_MM + SPREAD_SHARE * float(_sizes(shape)[0]) and near.mean() >= ENOUGH and rising.mean() <= 1 - ENOUGH
    )
    whole = _widest_gap(edges.points[on_it], shape) <= WIDEST_GAP_RAD
    return Opening(shape, on_it, scatter) if sure and whole else None


def _robust(points: Array, face: Plane, kind: str) -> Any:
    """The shape that most of some points (n, 3) lie on; None where no fit settles."""
    kept, shape = np.ones(len(points), bool), None
    for _ in range(ROUNDS):
        try:
            shape = fit(kind, points[kept], fixed={"plane": face}).shape
        except PlumbError:
            return None
        off = np.abs(shape.distance(points))
        now = off <= max(SIGMAS * NORMAL * float(np.median(off)), SPREAD_MM)
        if np.array_equal(now, kept) or now.sum() < FEWEST:
            break
        kept = now
    return shape


def _widest_gap(points: Array, shape: Circle | Slot) -> float:
    """The widest angle round its middle without an edge; of a slot by its two sizes, so that its ends weigh as its sides."""
    if isinstance(shape, Slot):
        along, across = shape.direction, np.cross(shape.normal, shape.direction)
        flat = (points - shape.center) @ np.column_stack([along / shape.length, across / shape.width])
    else:
        flat = (points - shape.center) @ np.column_stack(perpendicular_pair(shape.normal))
    turns = np.sort(np.arctan2(flat[:, 1], flat[:, 0]))
    return float(np.diff(np.append(turns, turns[0] + 2 * np.pi)).max())


def _apart(found: list[Opening]) -> list[Opening]:
    """Of those that lie in each other the one with the most edges: in one face no opening lies in another."""
    kept: list[Opening] = []
    for each in sorted(found, key=lambda opening: -len(opening.edges)):
        if not any(_overlap(each.shape, other.shape) for other in kept):
            kept.append(each)
    return kept


def _overlap(one: Circle | Slot, other: Circle | Slot) -> bool:
    return bool(one.distance(other.center[None])[0] < 0 or other.distance(one.center[None])[0] < 0)


def in_order(found: list[Opening], face: Plane) -> list[Opening]:
    """Those of one kind and size after each other, the most alike first; round where they lie on a circle, else row by row."""
    u, v = perpendicular_pair(face.normal)
    left, groups = list(found), []
    while left:
        alike = [each for each in left if _as_large(each.shape, left[0].shape)]
        left = [each for each in left if each not in alike]
        groups.append(alike)
    groups.sort(key=lambda group: (-len(group), -float(_sizes(group[0].shape)[0])))
    return [each for group in groups for each in _one_after_the_other(group, u, v)]


def _sizes(shape: Circle | Slot) -> Array:
    return np.array([shape.length, shape.width]) if isinstance(shape, Slot) else np.array([2 * shape.radius])


def _round(shape: Circle | Slot) -> float:
    """About how long its outline is."""
    return 2 * (shape.length + shape.width) if isinstance(shape, Slot) else 2 * np.pi * shape.radius


def _as_large(one: Circle | Slot, other: Circle | Slot) -> bool:
    return one.fits_as == other.fits_as and bool(np.allclose(_sizes(one), _sizes(other), rtol=ALIKE_SHARE, atol=ALIKE_MM))


def _one_after_the_other(group: list[Opening], u: Array, v: Array) -> list[Opening]:
    centers = np.array([each.shape.center for each in group])
    flat = (centers - centers.mean(axis=0)) @ np.column_stack([u, v])
    far = np.linalg.norm(flat, axis=1)
    if len(group) > 2 and np.ptp(far) < ROUND_SHARE * far.max():
        order = np.argsort(np.round(np.arctan2(flat[:, 1], flat[:, 0]) % (2 * np.pi), 3) % 6.283)
    else:
        rows = np.round(flat[:, 1] / max(2.0 * float(_sizes(group[0].shape)[0]), 1.0))
        order = np.lexsort((flat[:, 0], -rows))
    return [group[k] for k in order]
