"""A part drawn: its faces in flat warm light, its edges as lines where they are seen, and what is painted on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..frames import Array, Indices, unit
from ..kernels import fill, paint, tinted
from .camera import Camera

LIGHTS = ((unit(np.array([-0.5, -1, 1.4])), 0.26), (unit(np.array([1, 0.4, 0.3])), 0.08))
AROUND = 0.74  # of the light, from all sides
STEP_PX = 2.0  # at which an edge is looked at
FINE_PX = 0.75  # shorter pieces of an edge are drawn together with the next
BESIDE_MM = 0.05  # an edge may lie so much behind what is in front
GONE = -1


@dataclass(frozen=True, eq=False)
class Mesh:
    """``positions``, ``normals`` (n, 3); ``triangles`` (m, 3) of them; ``faces`` (m,) the face of each triangle; ``lines``
    (k, 2, 3): pieces of the edges, in order; ``edges`` (k,) the edge of each."""

    positions: Array
    normals: Array
    triangles: NDArray[np.uint32]
    faces: Indices
    lines: Array
    edges: Indices

    @property
    def box(self) -> Array:
        """(8, 3) its corners."""
        low, high = self.positions.min(axis=0), self.positions.max(axis=0)
        return np.array([[low, high][b][k] for n in range(8) for k in range(3) for b in [(n >> k) & 1]]).reshape(8, 3)


@dataclass(frozen=True, eq=False)
class Painted:
    """Places on the part, each ``size_mm`` large, with the number of its color."""

    points: Array
    colors: NDArray[np.int32]
    size_mm: float


@dataclass(frozen=True, eq=False)
class Sight:
    """What is seen: (high, wide) ``depth``, mm; ``faces``: the face at each pixel, or GONE; ``shade``: its light; ``painted``:
    the color that is painted there, or GONE."""

    depth: NDArray[np.float32]
    faces: NDArray[np.int32]
    shade: NDArray[np.float32]
    painted: NDArray[np.int32]

    def shows(self, on_paper: Array, within_mm: float, on_surface: bool) -> NDArray[np.bool_]:
        """(n,) which of some places, as ``Camera.on_paper`` tells them, are seen: the part is not before them, and, of those
        ``on_surface``, it is this place that is seen there. Where there is no part, all are."""
        inside, x, y = self._pixels(on_paper)
        there = self.depth[y, x]
        near = on_paper[:, 2] <= there + within_mm
        if on_surface and np.isfinite(self.depth).any():
            near &= on_paper[:, 2] >= there - within_mm
        return inside & near

    def _pixels(self, on_paper: Array) -> tuple[NDArray[np.bool_], Indices, Indices]:
        """Which lie in the picture, and their columns and rows, of others the nearest there is."""
        high, wide = self.depth.shape
        x, y = np.floor(on_paper[:, 0]).astype(int), np.floor(on_paper[:, 1]).astype(int)
        inside = (x >= 0) & (x < wide) & (y >= 0) & (y < high)
        return inside, np.clip(x, 0, wide - 1), np.clip(y, 0, high - 1)

    def tinted(self, tints: Array, steps: NDArray[np.uint8], paper: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """(h, w, 3) what is painted, by its ``steps`` (k, 3); the faces, by their ``tints`` (n, 3) and light; and paper."""
        return np.asarray(tinted(self.faces, self.shade, self.painted, tints, steps, paper))

    def edge_shows(self, on_paper: Array, within_mm: float) -> NDArray[np.bool_]:
        """(n,) which of some places on edges nothing hides."""
        high, wide = self.depth.shape
        inside, x, y = self._pixels(on_paper)
        behind = np.full(len(x), -np.inf)
        for right in (-1, 0, 1):  # what is seen one pixel beside it counts: an edge lies between two
            for down in (-1, 0, 1):
                beside = self.depth[np.clip(y + down, 0, high - 1), np.clip(x + right, 0, wide - 1)]
                np.maximum(behind, beside, out=behind)
        return inside & (on_paper[:, 2] <= behind + within_mm)


def seen(camera: Camera, mesh: Mesh, wide: int, high: int, painted: tuple[Painted, ...] = ()) -> Sight:
    """A part as it is seen in a picture of so many pixels."""
    depth, of = np.full((high, wide), np.inf, np.float32), np.full((high, wide), GONE, np.int32)
    shade, colors = np.zeros((high, wide), np.float32), np.full((high, wide), GONE, np.int32)
    corners = np.ascontiguousarray(camera.on_paper(mesh.positions, wide, high))
    fill(corners, _light(camera, mesh.normals), np.ascontiguousarray(mesh.triangles), depth, of, shade)
    for each in painted:
        half = max(camera.pixels_per_mm(high) * each.size_mm, 2.0)
        away = np.full((high, wide), np.inf, np.float32)
        places = np.ascontiguousarray(camera.on_paper(each.points, wide, high))
        paint(places, np.ascontiguousarray(each.colors, np.int32), half, 2 * each.size_mm, depth, away, colors)
    faces = np.where(of == GONE, GONE, mesh.faces[of] if len(mesh.faces) else GONE).astype(np.int32)
    return Sight(depth, faces, shade, colors)


def _light(camera: Camera, normals: Array) -> Array:
    """(n,) on a surface whose back looks the same."""
    facing = normals * np.where(normals @ camera.away > 0, -1.0, 1.0)[:, None]
    lit = np.full(len(normals), AROUND)
    for way, strength in LIGHTS:
        lit += strength * np.maximum(facing @ way, 0)
    return lit


def edges_seen(camera: Camera, mesh: Mesh, sight: Sight) -> list[Array]:
    """Lines (n, 2) on paper: the edges, where nothing hides them."""
    high, wide = sight.depth.shape
    if not len(mesh.lines):
        return []
    ends = camera.on_paper(mesh.lines.reshape(-1, 3), wide, high).reshape(-1, 2, 3)
    lengths = np.linalg.norm(ends[:, 1, :2] - ends[:, 0, :2], axis=1)
    counts = np.maximum(np.ceil(lengths / STEP_PX).astype(int), 1) + 1
    piece = np.repeat(np.arange(len(ends)), counts)
    first = np.cumsum(counts) - counts
    along = (np.arange(len(piece)) - first[piece]) / (counts[piece] - 1)
    places = ends[piece, 0] + along[:, None] * (ends[piece, 1] - ends[piece, 0])
    shows = sight.edge_shows(places, BESIDE_MM + 1.0 / camera.pixels_per_mm(high))
    # a line goes on while both ends of a step show, and the next step begins where it ends
    goes_on = shows[1:] & shows[:-1] & (mesh.edges[piece[1:]] == mesh.edges[piece[:-1]])
    jump = (piece[1:] != piece[:-1]) & (np.abs(places[1:, :2] - places[:-1, :2]).max(axis=1) > FINE_PX)
    runs = np.split(np.arange(len(places)), np.flatnonzero(~goes_on | jump) + 1)
    lines = [thinned(places[run, :2]) for run in runs if len(run) > 1 and shows[run[0]]]
    return [line for line in lines if len(line) > 1]  # one along the line of sight is a point


def thinned(line: Array) -> Array:
    """A line without the places that lie between others, on the way, or closer than is seen."""
    moved = np.r_[True, np.abs(np.diff(line, axis=0)).max(axis=1) > 1e-9]
    line = line[moved]
    if len(line) < 3:
        return line
    ways = np.diff(line, axis=0)
    turned = np.abs(ways[:-1, 0] * ways[1:, 1] - ways[:-1, 1] * ways[1:, 0])
    straight = turned < 1e-3 * np.linalg.norm(ways[:-1], axis=1) * np.linalg.norm(ways[1:], axis=1)
    line = line[np.r_[True, ~straight, True]]
    travelled = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    _, kept = np.unique((travelled / FINE_PX).astype(int), return_index=True)
    return line[np.union1d(kept, [len(line) - 1])]
