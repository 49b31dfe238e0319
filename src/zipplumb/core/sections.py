"""A section: the curve along which a plane cuts a surface, and what a tip that follows it makes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from .frames import Array, Indices, cross, unit
from .kernels import feet_on
from .shapes import BaseShape

FEET, STILL = 8, 1e-7  # rounds by which a foot settles; mm that are nothing
SHORT_MM = 1e-9


@dataclass(frozen=True, eq=False)
class Section(BaseShape):
    """A curve in a plane, on a surface.

    Attributes
    ----------
    points : (m, 3) on the curve, in order, near enough to one another that a cubic between two is as good as the curve
    normals : (m, 3) of the surface there, out of the material; at a corner two points lie in one place
    across : (3,) normal of the plane
    """

    points: Array
    normals: Array
    across: Array
    rows_, direction_rows_, directions_ = ("points",), ("normals",), ("across",)
    derived_ = ("_pieces", "_tree")

    def __post_init__(self):
        super().__post_init__()
        if len(self.points) != len(self.normals):
            raise ValueError("each point of a section wants a normal")
        if len(self.points) < 2 or not self.length > SHORT_MM:
            raise ValueError("a section has a length")
        if np.linalg.norm(cross(self.normals, self.across), axis=1).min() < 1e-3:
            raise ValueError("a section's plane cuts the surface, and does not lie in it")

    @property
    def spot(self) -> Array:
        """Its middle."""
        return self.at(np.array([self.length / 2]))[0]

    @cached_property
    def _lengths(self) -> Array:
        """(m,) from the first point to each, along the curve."""
        return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(self.points, axis=0), axis=1))])

    @property
    def length(self) -> float:
        return float(self._lengths[-1])

    @cached_property
    def _pieces(self) -> tuple[Indices, Array]:
        """Where the cubics begin (k,), and their coefficients (4, k, 3) by the share of each, the constant first."""
        chords = np.diff(self.points, axis=0)
        long = np.linalg.norm(chords, axis=1)
        begins = np.flatnonzero(long > SHORT_MM)
        ends = []
        for k in (begins, begins + 1):
            along = unit(cross(self.across, self.normals[k]))
            ends.append(along * (np.sign(np.einsum("ij,ij->i", along, chords[begins])) * long[begins])[:, None])
        chord, (first, last) = chords[begins], ends
        return begins, np.array([self.points[begins], first, 3 * chord - 2 * first - last, first + last - 2 * chord])

    @cached_property
    def _tree(self) -> cKDTree:
        return cKDTree(self.points)

    def at(self, along_mm: Array) -> Array:
        """Places (n, 3) at lengths from its beginning."""
        begins = self._pieces[0]
        starts = self._lengths[begins]
        piece = np.clip(np.searchsorted(starts, along_mm, "right") - 1, 0, len(begins) - 1)
        long = self._lengths[begins[piece] + 1] - starts[piece]
        t = np.clip((along_mm - starts[piece]) / long, 0, 1)[:, None]
        a, b, c, d = self._pieces[1][:, piece]
        return np.asarray(((d * t + c) * t + b) * t + a)

    def targets(self, spacing_mm: float) -> Array:
        """Places (n, 3) along it at about a spacing, clear of its ends by half of that."""
        count = max(1, round(self.length / spacing_mm))
        return self.at((np.arange(count) + 0.5) * self.length / count)

    def feet(self, points: Array) -> tuple[Array, Array]:
        """The nearest places (n, 3) of the curve, seen along the plane's normal, and the surface's normals there."""
        flat = points - ((points - self.points[0]) @ self.across)[:, None] * self.across
        begins, cubics = self._pieces
        after = np.searchsorted(begins, self._tree.query(flat)[1], "left")
        return feet_on(np.ascontiguousarray(flat), after, cubics, begins, np.ascontiguousarray(self.normals))

    def distance(self, points: Array) -> Array:
        """(n,) from the surface along its normal, + out of the material; beside the plane by its tangent planes."""
        feet, normals = self.feet(points)
        return np.einsum("ij,ij->i", points - feet, normals)

    def touched(self, centers: Array, radius: float) -> tuple[Array, Array]:
        """Where a ball touches, (n, 3), and how far that is from the surface, (n,).

        A ball's center may lie beside the plane, or above another place of the curve: its foot is looked for from where
        it touches.
        """
        points = centers
        for _ in range(FEET):
            feet, normals = self.feet(points)
            before, points = points, centers - radius * normals
            if np.abs(points - before).max() < STILL:
                break
        return points, np.einsum("ij,ij->i", points - feet, normals)


@dataclass(frozen=True, eq=False)
class TipPath(BaseShape):
    """Centers (n, 3) of a tip that followed a surface, and its radius."""

    centers: Array
    radius: float
    rows_ = ("centers",)
    lengths_ = ("radius",)

    @property
    def spot(self) -> Array:
        """Its middle."""
        return np.asarray(self.centers.mean(axis=0))

    def distance(self, points: Array) -> Array:
        """(n,) to the nearest center, less the radius."""
        return cKDTree(self.centers).query(points)[0] - self.radius
