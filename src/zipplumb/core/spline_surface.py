"""A rational B-spline surface: places on it, and the feet of points."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.spatial import cKDTree

from .frames import Array

if TYPE_CHECKING:
    from scipy.interpolate import NdBSpline

PER_SPAN = 4  # places on each knot span from which a foot is looked for
STEPS, STILL = 20, 1e-12
FIRST, SECOND = ((1, 0), (0, 1)), ((2, 0), (1, 1), (0, 2))


@dataclass(frozen=True, eq=False)
class SplineSurface:
    """A face that is of no simpler shape.

    Attributes
    ----------
    degrees : of u and of v
    knots : u (n + p + 1,) and v (m + q + 1,), with their multiplicities
    poles : (n, m, 4) w x, w y, w z, w; mm
    outward : +1 where the normal du × dv leads out of the material, else -1

    Notes
    -----
    Source: L. Piegl and W. Tiller, "The NURBS Book", 2nd ed., sections 4.4 (rational surfaces and their derivatives) and
    6.1 (point inversion by Newton's iteration).
    """

    degrees: tuple[int, int]
    knots: tuple[Array, Array]
    poles: Array
    outward: float = 1.0

    def to_data(self) -> dict[str, Any]:
        """The surface as plain data."""
        knots = [each.tolist() for each in self.knots]
        return {"degrees": list(self.degrees), "knots": knots, "poles": self.poles.tolist(), "outward": self.outward}

    @classmethod
    def from_data(cls, data: Mapping[str, Any]) -> SplineSurface:
        """Read a surface from its plain data."""
        (p, q), (u, v) = data["degrees"], data["knots"]
        return cls((p, q), (np.array(u, float), np.array(v, float)), np.array(data["poles"], float), float(data["outward"]))

    @cached_property
    def _spline(self) -> NdBSpline:
        from scipy.interpolate import NdBSpline  # nearly a second, and few parts have such faces

        return NdBSpline(self.knots, self.poles, k=self.degrees)

    @cached_property
    def domain(self) -> Array:
        """(2, 2) the least and the greatest u and v."""
        return np.array([[t[p], t[-p - 1]] for t, p in zip(self.knots, self.degrees, strict=True)]).T

    def _derivatives(self, uv: Array, orders: tuple[tuple[int, int], ...]) -> tuple[Array, list[Array]]:
        """Places (n, 3), and derivatives of them of first or first and second order, (n, 3) each."""
        at = self._spline(uv)
        w, place = at[:, 3:], at[:, :3] / at[:, 3:]
        raw = {order: self._spline(uv, nu=order) for order in orders}
        found: dict[tuple[int, int], Array] = {}
        for order in orders[:2]:
            found[order] = (raw[order][:, :3] - raw[order][:, 3:] * place) / w
        for order in orders[2:]:
            (a, b) = ((1, 0), (0, 1)) if order == (1, 1) else ((order[0] // 2, order[1] // 2),) * 2
            mixed = raw[a][:, 3:] * found[b] + raw[b][:, 3:] * found[a]
            found[order] = (raw[order][:, :3] - mixed - raw[order][:, 3:] * place) / w
        return place, [found[order] for order in orders]

    @cached_property
    def _grid(self) -> tuple[Array, cKDTree]:
        along = []
        for t, p in zip(self.knots, self.degrees, strict=True):
            ends = np.unique(t[p : len(t) - p])
            share = np.arange(PER_SPAN) / PER_SPAN
            along.append(np.append((ends[:-1, None] + np.diff(ends)[:, None] * share).ravel(), ends[-1]))
        uv = np.array(np.meshgrid(*along, indexing="ij")).reshape(2, -1).T
        at = self._spline(uv)
        return uv, cKDTree(at[:, :3] / at[:, 3:])

    def nearest(self, points: Array, near: Array | None = None) -> tuple[Array, Array]:
        """Feet (n, 3) of points, and the normals (n, 3) out of the material there.

        Parameters
        ----------
        points : (n, 3) mm
        near : (n, 3) where the feet are, roughly; by default the points themselves
        """
        low, high = self.domain
        grid, tree = self._grid
        uv = grid[tree.query(points if near is None else near)[1]]
        for _ in range(STEPS):
            place, (du, dv, duu, duv, dvv) = self._derivatives(uv, (*FIRST, *SECOND))
            off = place - points
            gradient = np.column_stack([_dot(off, du), _dot(off, dv)])
            a, b, c = _dot(du, du), _dot(du, dv), _dot(dv, dv)
            full = a + _dot(off, duu), b + _dot(off, duv), c + _dot(off, dvv)
            convex = (full[0] > 0.1 * a) & (full[0] * full[2] - full[1] ** 2 > 0.1 * (a * c - b * b))  # else Gauss-Newton
            a, b, c = (np.where(convex, whole, flat) for whole, flat in zip(full, (a, b, c), strict=True))
            # where the foot would leave the surface, it slides along the border
            held = ((uv <= low) & (gradient > 0)) | ((uv >= high) & (gradient < 0))
            gradient[held] = 0.0
            b = np.where(held.any(axis=1), 0.0, b)
            det = np.maximum(a * c - b * b, 1e-300)
            left, right = gradient.T
            step = np.column_stack([b * right - c * left, b * left - a * right]) / det[:, None]
            moved = np.clip(uv + np.clip(step, (low - high) / 8, (high - low) / 8), low, high)
            done = np.abs(moved - uv).max() < STILL * np.abs(high - low).max()
            uv = moved
            if done:
                break
        place, (du, dv) = self._derivatives(uv, FIRST)
        normal = self.outward * np.cross(du, dv)
        return place, normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]


def _dot(a: Array, b: Array) -> Array:
    return np.einsum("ij,ij->i", a, b)
