"""The part as it really is. Only the stand-in knows it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.frames import Array, unit

CLEAR_MM = 6.0  # a hand does not touch nearer to an edge than this, where there is room


@dataclass(frozen=True, eq=False)
class RealFace:
    """A face: its true shape, how it waves, and where a hand may touch it.

    ``spots`` (m, 3) and ``outward`` (m, 3) lie on the nominal face, part coordinates, mm.
    """

    index: int
    kind: str
    point: Array
    axis: Array
    radius: float
    inside: bool
    wave_mm: float
    spots: Array
    outward: Array

    @classmethod
    def from_dict(cls, raw: dict) -> RealFace:
        arrays = {k: np.array(raw[k], float).reshape(-1, 3) for k in ("spots", "outward")}
        vectors = {k: np.array(raw.get(k) or (0, 0, 1), float) for k in ("point", "axis")}
        return cls(
            raw["index"], raw["kind"], radius=raw.get("radius", 0.0), inside=raw.get("inside", False),
            wave_mm=raw.get("wave_mm", 0.0), **arrays, **vectors,
        )  # fmt: skip

    def touch(self, near: Array) -> tuple[Array, Array]:
        """The true surface point and outward normal nearest to a nominal one."""
        if self.kind == "plane":
            normal = unit(self.axis)
            wave = self.wave_mm / 2 * np.sin(near[0] / 45.0) * np.cos(near[1] / 60.0 + near[2] / 50.0)
            return near - (((near - self.point) @ normal) - wave) * normal, normal
        if self.kind == "cylinder":
            axis = unit(self.axis)
            rel = near - self.point
            along = rel @ axis
            radial = unit(rel - along * axis)
            u = unit(np.cross(axis, np.eye(3)[np.argmin(np.abs(axis))]))
            angle = np.arctan2(radial @ np.cross(axis, u), radial @ u)
            radius = self.radius + self.wave_mm / 2 * np.cos(2 * angle)
            return self.point + along * axis + radius * radial, -radial if self.inside else radial
        k = int(np.argmin(np.linalg.norm(self.spots - near, axis=1)))
        return near, self.outward[k]

    def spread(self, count: int, random: np.random.Generator) -> list[int]:
        """Spots far from one another, as a careful hand chooses them."""
        chosen = [int(random.integers(len(self.spots)))]
        gap = np.linalg.norm(self.spots - self.spots[chosen[0]], axis=1)
        while len(chosen) < min(count, len(self.spots)):
            chosen.append(int(np.argmax(gap)))
            gap = np.minimum(gap, np.linalg.norm(self.spots - self.spots[chosen[-1]], axis=1))
        return self._in_order(chosen)

    def _in_order(self, chosen: list[int]) -> list[int]:
        """Round the axis, or each to its nearest neighbour."""
        if self.kind == "cylinder":
            u = unit(np.cross(self.axis, np.eye(3)[np.argmin(np.abs(self.axis))]))
            rel = self.spots[chosen] - self.point
            angle = np.arctan2(rel @ np.cross(unit(self.axis), u), rel @ u)
            return [chosen[k] for k in np.argsort(angle)]
        order, rest = [chosen[0]], chosen[1:]
        while rest:
            gaps = [np.linalg.norm(self.spots[k] - self.spots[order[-1]]) for k in rest]
            order.append(rest.pop(int(np.argmin(gaps))))
        return order


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
    wanted = min(CLEAR_MM, float(np.quantile(clear, 0.5)))
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
    nearest = np.full(len(points), np.inf)
    for a, b in edges:
        along = b - a
        share = np.clip((points - a) @ along / max(along @ along, 1e-12), 0, 1)
        nearest = np.minimum(nearest, np.linalg.norm(points - a - share[:, None] * along, axis=1))
    return nearest
