"""A rational B-spline surface: places on it, and the feet of points."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.spatial import cKDTree

from . import kernels
from .frames import Array

if TYPE_CHECKING:
    from scipy.interpolate import NdBSpline

PER_SPAN, ALONG = 4, 32  # places on each knot span, and along all at least, from which a foot is looked for
SEEDS, ASIDE_MM = 4, 1e-6  # the nearest of these; a foot so far from under its point is on a border


@dataclass(frozen=True, eq=False)
class SplineSurface:
    """A face that is of no simpler shape.

    Attributes
    ----------
    degrees : of u and of v
    knots : u (n + p + 1,) and v (m + q + 1,), with their multiplicities
    poles : (n, m, 4) w x, w y, w z, w; mm
    outward : +1 where the normal du × dv leads out of the material, else -1
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
    def _grid(self) -> tuple[Array, cKDTree]:
        along = []
        for t, p in zip(self.knots, self.degrees, strict=True):
            ends = np.unique(t[p : len(t) - p])
            each = max(PER_SPAN, -(-ALONG // (len(ends) - 1)))
            share = np.arange(each) / each
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
        grid, tree = self._grid
        seeds = grid[tree.query(points if near is None else near, k=SEEDS)[1]]
        feet, normals = self._from(points, seeds[:, 0])
        off = points - feet
        aside = np.linalg.norm(off - np.einsum("ij,ij->i", off, normals)[:, None] * normals, axis=1) > ASIDE_MM
        for seed in range(1, SEEDS):  # on a border, which may be where the surface closes on itself
            again = np.flatnonzero(aside)
            other, its = self._from(points[again], seeds[again, seed])
            nearer = np.linalg.norm(points[again] - other, axis=1) < np.linalg.norm(points[again] - feet[again], axis=1)
            feet[again[nearer]], normals[again[nearer]] = other[nearer], its[nearer]
        return feet, normals

    def _from(self, points: Array, seeds: Array) -> tuple[Array, Array]:
        points, seeds = np.ascontiguousarray(points, float), np.ascontiguousarray(seeds, float)
        feet, crossed, _ = kernels.spline_feet(*self.degrees, *self.knots, np.ascontiguousarray(self.poles), points, seeds)
        return feet, self.outward * crossed
