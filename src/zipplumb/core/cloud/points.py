"""The points of a scan that are worked with: thinned evenly, with the way that the surface faces at each."""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..frames import Array, Indices, Motion
from .cells import Cells, facing
from .giving import GivenPoints, evenly

_BYTES = np.array([65536.0, 256.0, 1.0])
LOOKED_AT, AROUND = 2_000, 12  # points that tell how far apart they are, each by so many about it
NEIGHBOURS, BROAD = 24, 0.15  # points that tell how one faces; their breadth, of the length of a cell, or of how far they reach
UNSURE_MM, UNSURE = 0.06, 3.0  # a cell whose points scatter more, and so many times as much as most, lies across an edge


@dataclass(frozen=True, eq=False)
class CloudPoints:
    """``points`` (n, 3) in the world, mm; ``normals`` (n, 3) to the scanner, NaN where none is sure; ``lines`` (n,) of light
    that they are of; ``brightness`` (n,) 0 to 1, NaN where it is not told."""

    points: Array
    normals: Array
    lines: Indices
    brightness: Array

    def __len__(self) -> int:
        return len(self.lines)

    def of(self, some: NDArray[Any]) -> CloudPoints:
        return CloudPoints(*(getattr(self, each.name)[some] for each in fields(self)))

    @classmethod
    def none(cls) -> CloudPoints:
        return cls(np.empty((0, 3)), np.empty((0, 3)), np.empty(0, np.int64), np.empty(0))

    @classmethod
    def bare(cls, points: Array, lines: Indices, brightness: Array | None = None) -> CloudPoints:
        """Of which nobody knows how they face."""
        return cls(points, np.full_like(points, np.nan), lines, np.ones(len(lines)) if brightness is None else brightness)

    @classmethod
    def of_cells(cls, cells: Cells, spacing_mm: float) -> CloudPoints:
        """``spacing_mm``: length of the cells. Where a cell's points stand in one line, its neighbours tell how it faces."""
        normals, scatter = cells.normals(BROAD * spacing_mm)
        narrow = np.flatnonzero(np.isnan(normals[:, 0]))
        if len(cells) > NEIGHBOURS and len(narrow):
            tree = cKDTree(cells.points, balanced_tree=False)
            near = tree.query(cells.points[narrow], k=NEIGHBOURS, workers=-1)[1]
            normals[narrow], scatter[narrow] = facing(cells.points, near, cells.ways[narrow], BROAD)
        if np.isfinite(scatter).any():
            normals[scatter > max(UNSURE_MM, UNSURE * float(np.nanmedian(scatter)))] = np.nan
        return cls(cells.points, normals, cells.lines, cells.brightness)

    def drawn(self, here: Motion) -> NDArray[np.float32]:
        """(n, 5) as they are drawn, ``here`` from the world, with their brightness."""
        return drawn(here.points(self.points), self.brightness, here.vectors(self.normals))

    def given(self, most: int) -> GivenPoints:
        """Evenly so many at most, of those that lie across no edge."""
        some = evenly(np.flatnonzero(np.isfinite(self.normals[:, 0])), most)
        return GivenPoints(self.points[some], self.lines[some])

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.points)

    @cached_property
    def spacing_mm(self) -> float:
        """How far apart they are, mostly."""
        some = self.points[np.linspace(0, len(self) - 1, min(len(self), LOOKED_AT)).astype(int)]
        return float(np.median(self.apart_at(some))) if len(some) else 1.0

    def apart_at(self, places: Array) -> Array:
        """How far apart they are about places (n, 3), mm: as if they were evenly spread over a surface, which lines are not."""
        count = min(AROUND, len(self))
        far = self.tree.query(places, k=[count])[0][:, 0]
        return np.asarray(far / np.sqrt(count / np.pi))


def drawn(points: Array, values: Array, normals: Array) -> NDArray[np.float32]:
    """(n, 5) as points are drawn: X, Y, Z in mm, a value, and which way they face, three bytes as one number (0: not known): of
    each component 1 to 255, 128 being zero."""
    bytes_ = np.where(np.isfinite(normals), 128 + np.round(127 * np.nan_to_num(normals)), 0)
    return np.column_stack([points, values, bytes_ @ _BYTES]).astype("<f4")
