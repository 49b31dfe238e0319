"""Where scanned points lie on a part, from no start at all: places by votes, each settled, the likeliest first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from ..errors import AlignmentError
from ..frames import Array, Indices, Motion
from ..kernels.pairs import TURNS, axes_of, pairs_of, votes
from .surfaces import Nearest, settled_near

MODEL, SCENE, FROM, PEAKS = 700, 900, 80, 3  # points of both that make pairs; starts, and places that each may vote for
MANY, REACH = 20_000, 1 << 20  # points that are thinned, and cubes of a grid
STEP = 0.05  # of the part's size: steps of distances
ALIKE, ALIKE_RAD = 0.08, 0.35  # places that are one: of the part's size, and turned so much
SAME, SAME_RAD = 0.01, 0.02  # places that have settled in one
LOOKED_AT, BY = 40, 500  # places that are settled roughly, by so many points
# of the part's size, one step after the other: what is farther off does not pull
NEARER = (0.12, 0.1, 0.08, 0.06, 0.05, 0.04, 0.03, 0.03, 0.02, 0.02, 0.015, 0.015, 0.01, 0.01, 0.01, 0.01)
DRAWN, FLIPPED = 8, 5  # steps that draw along flat faces too; places of which others are made by turning the part over
FACING = 0.6  # cosine: nor what faces another way
CLOSELY, EXACTLY, JUDGED = 8, 400, 6_000  # places that are settled on the surfaces themselves, by how many points, and judged
LIES_MM, LIES_U = 0.25, 5.0  # points lie on the part that are no farther off, or so many times their uncertainty
WORSE, FARTHER = 0.002, 1.25  # a place is worse where so much less lies on the part, or so much farther off
FEWEST = 50


@dataclass(frozen=True, eq=False)
class Placed:
    """``part_from_world``; ``lies``: the share of the points that lie on the part there, and ``off_mm``: how far on average."""

    part_from_world: Motion
    lies: float
    off_mm: float


@dataclass(frozen=True, eq=False)
class Samples:
    """Places (m, 3) evenly spread over a part's surface, with the normals there out of the material."""

    points: Array
    normals: Array

    def of(self, some: Indices) -> Samples:
        return Samples(self.points[some], self.normals[some])

    @property
    def size_mm(self) -> float:
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))


def places_of(scene: Samples, part: Samples, seed: int = 0) -> list[Motion]:
    """Where the part may lie, part from world, roughly, the likeliest first.

    Raises
    ------
    AlignmentError
        Too few points, or all of them in one plane.
    """
    random, size = np.random.default_rng(seed), part.size_mm
    if len(scene.points) < FEWEST:
        raise AlignmentError("Too little was scanned to find the part by it.", "The scan is kept.", "Scan more of it.")
    model, seen = _thinned(part, MODEL, random), _thinned(scene, SCENE, random)
    keys, starts, turns = pairs_of(model.points, model.normals, STEP * size)
    order = np.argsort(keys)
    keys, starts, turns = keys[order], starts[order], turns[order]
    voted: list[tuple[float, Motion]] = []
    for ref in random.permutation(len(seen.points))[:FROM]:
        found = votes(ref, seen.points, seen.normals, keys, starts, turns, len(model.points), STEP * size)
        for best in np.argpartition(found.ravel(), -PEAKS)[-PEAKS:]:
            start, turn = divmod(int(best), TURNS)
            if found[start, turn] > 0:
                voted.append((found[start, turn], _motion(seen, ref, model, start, (turn + 0.5) * 2 * np.pi / TURNS)))
    if not voted:
        raise AlignmentError(
            "What was scanned is one plane: it tells no place.", "The scan is kept.", "Scan more sides of the part."
        )
    return _together(voted, seen.points.mean(axis=0), size)


def anywhere(scene: Samples, part: Samples, nearest: Nearest, u_mm: float, seed: int = 0) -> list[Placed]:
    """Where a part lies by what was scanned of it, from no start: the best place, and all others that are as good.

    Pairs of oriented points vote for places (Drost et al., CVPR 2010, see ``kernels.pairs``); each is settled on the part's
    sampled surface, the best also turned over about its main axes, and the best of these on the surfaces themselves.

    Parameters
    ----------
    scene : points in the world, with normals out of the material
    part : places all over the part's surface
    nearest : (m, 3) points of the part -> feet (m, 3) and unit normals (m, 3), exact
    u_mm : standard uncertainty of a point with the surface's own form

    Raises
    ------
    AlignmentError
        Too few points, or they tell no place.
    """
    random, tree = np.random.default_rng(seed), cKDTree(part.points)
    few = scene.of(random.permutation(len(scene.points))[:BY])
    middle, size = scene.points.mean(axis=0), part.size_mm
    rough = [_roughly(few, part, tree, start) for start in places_of(scene, part, seed)[:LOOKED_AT]]
    rough += [_roughly(few, part, tree, start) for start in _flipped(_best(rough, middle, size)[:FLIPPED], part)]
    distinct = _best(rough, middle, size)[:CLOSELY]
    settled = [settled_near(few.points[:EXACTLY], nearest, motion) for motion in distinct]
    many = scene.of(random.permutation(len(scene.points))[:JUDGED])
    within = max(LIES_MM, LIES_U * u_mm)
    found = [_placed(many, nearest, motion, within) for motion in _distinct(settled, middle, size)]
    best = min(found, key=lambda each: (-round(each.lies / WORSE), each.off_mm))
    good = [f for f in found if f.lies >= best.lies - WORSE and f.off_mm <= FARTHER * max(best.off_mm, u_mm / FARTHER)]
    return [best, *(f for f in good if f is not best)]


def _placed(scene: Samples, nearest: Nearest, motion: Motion, within: float) -> Placed:
    points = motion.points(scene.points)
    feet, outward = nearest(points)
    off = np.abs(np.einsum("ij,ij->i", points - feet, outward))
    far = np.linalg.norm(points - feet, axis=1)
    lies = (far <= within) & (np.einsum("ij,ij->i", motion.vectors(scene.normals), outward) >= FACING)
    return Placed(motion, float(lies.mean()), float(off[lies].mean()) if lies.any() else np.inf)


def _roughly(few: Samples, part: Samples, tree: cKDTree, start: Motion) -> tuple[float, Motion]:
    """Laid upon the part's sampled surface: first point to point, which also draws along flat faces to where they end, then
    point to plane; and the share of the points that lie near it then."""
    motion, size, near = start, part.size_mm, np.zeros(len(few.points), bool)
    for step, nearer in enumerate(NEARER):
        points, normals = motion.points(few.points), motion.vectors(few.normals)
        far, foot = tree.query(points, distance_upper_bound=nearer * size)
        near = np.isfinite(far)
        near[near] = np.einsum("ij,ij->i", normals[near], part.normals[foot[near]]) >= FACING
        if near.sum() < FEWEST // 2:
            return 0.0, motion
        motion = _nearer(points[near], part.of(foot[near]), size, to_points=step < DRAWN) @ motion
    return float(near.mean()), motion


def _nearer(points: Array, feet: Samples, size: float, to_points: bool) -> Motion:
    """The small motion that brings points (n, 3) nearer to their feet."""
    middle = points.mean(axis=0)
    arms, off = (points - middle) / size, points - feet.points
    if to_points:
        ways = np.tile(np.eye(3), (len(points), 1, 1))
        rows = np.concatenate([ways, np.cross(arms[:, None], ways)], axis=2).reshape(-1, 6)
        off = off.ravel()
    else:
        rows = np.hstack([feet.normals, np.cross(arms, feet.normals)])
        off = np.einsum("ij,ij->i", off, feet.normals)
    step = -np.linalg.lstsq(rows.T @ rows + 1e-6 * len(rows) * np.eye(6), rows.T @ off, rcond=None)[0]
    turn = Rotation.from_rotvec(step[3:] / size).as_matrix()
    return Motion(turn, middle + step[:3] - turn @ middle)


def _flipped(motions: list[Motion], part: Samples) -> list[Motion]:
    """The part turned over about each of its main axes: where it is nearly alike, votes may tell the one for the other."""
    middle = part.points.mean(axis=0)
    axes = np.linalg.eigh(np.cov((part.points - middle).T))[1].T
    halves = [2 * np.outer(axis, axis) - np.eye(3) for axis in axes]
    return [Motion(half, middle - half @ middle) @ motion for motion in motions for half in halves]


def _best(rough: list[tuple[float, Motion]], middle: Array, size: float) -> list[Motion]:
    """Each place once, where most lies first."""
    return _distinct([motion for _, motion in sorted(rough, key=lambda each: -each[0])], middle, size)


def _distinct(motions: list[Motion], middle: Array, size: float) -> list[Motion]:
    """Each place once, the first of those that are alike."""
    found: list[Motion] = []
    for motion in motions:
        if not any(_alike(motion, other, middle, size) for other in found):
            found.append(motion)
    return found


def _alike(a: Motion, b: Motion, middle: Array, size: float) -> bool:
    cosine = (np.trace(a.rotation @ b.rotation.T) - 1) / 2
    apart = np.linalg.norm(a.points(middle[None])[0] - b.points(middle[None])[0])
    return bool(cosine > np.cos(SAME_RAD) and apart < SAME * size)


def _thinned(samples: Samples, count: int, random: np.random.Generator) -> Samples:
    """So many of them at most, evenly spread: one of each cube of a grid."""
    some = random.permutation(len(samples.points))[:MANY]
    points = samples.points[some] - samples.points[some].min(axis=0)
    spacing = samples.size_mm / 200
    while True:
        x, y, z = np.floor(points / spacing).astype(np.int64).T
        first = np.unique((x * REACH + y) * REACH + z, return_index=True)[1]
        if len(first) <= count:
            return samples.of(some[first])
        spacing *= max(1.05, 0.9 * np.sqrt(len(first) / count))


def _motion(scene: Samples, ref: int, model: Samples, start: int, turn: float) -> Motion:
    about = Rotation.from_rotvec([turn, 0.0, 0.0]).as_matrix()
    rotation = axes_of(model.normals[start]).T @ about @ axes_of(scene.normals[ref])
    return Motion(rotation, model.points[start] - rotation @ scene.points[ref])


def _together(voted: list[tuple[float, Motion]], middle: Array, size: float) -> list[Motion]:
    """What votes for about the same place counts together; the best of each stands for it."""
    voted.sort(key=lambda each: -each[0])
    rotations = np.array([motion.rotation for _, motion in voted])
    middles = np.array([motion.points(middle[None])[0] for _, motion in voted])
    weights = np.array([weight for weight, _ in voted])
    cosines = (np.einsum("aij,bij->ab", rotations, rotations) - 1) / 2
    alike = (cosines > np.cos(ALIKE_RAD)) & (np.linalg.norm(middles[:, None] - middles[None], axis=2) < ALIKE * size)
    score = alike @ weights
    found, left = [], np.ones(len(voted), bool)
    for k in np.argsort(-score):
        if left[k]:
            found.append(voted[k][1])
            left &= ~alike[k]
    return found
