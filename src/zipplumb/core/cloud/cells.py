"""A cloud as cells: of a grid of cubes each that holds light is told by one of its points, a normal and how much was seen.

What is one point of each cell has the noise of one point, wherever the surface bends; a mean of them would lie inside of a
bore. Clouds of any size come through chunk by chunk, and cost what their surface is, not how often it was passed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .. import kernels
from ..frames import Array, Indices
from .light import Seen

FEWEST = 3  # points of a cell that has a normal
REACH = 1 << 20  # cells on either side of the middle that a key can name
TOGETHER = 2_000_000  # rows of parts that are put together at once


@dataclass(frozen=True, eq=False)
class Cells:
    """Cells of a cloud, in the world, mm.

    Attributes
    ----------
    keys : (k,) names of the cells, rising
    points : (k, 3) the first point that was seen in each
    lines : (k,) the line of light that it is of
    ways : (k, 3) mean way of the light, not of length 1
    brightness : (k,) mean; NaN where none is told
    counts : (k,) points
    sums, squares : (k, 3) and (k, 6) of all points, from the cell's first: xx, yy, zz, xy, xz, yz
    """

    keys: Indices
    points: Array
    lines: Indices
    ways: Array
    brightness: Array
    counts: Indices
    sums: Array
    squares: Array

    def __len__(self) -> int:
        return len(self.keys)

    def of(self, some: NDArray[Any]) -> Cells:
        return Cells(*(getattr(self, each.name)[some] for each in fields(self)))

    def normals(self, broad_mm: float = 0.0) -> tuple[Array, Array]:
        """Normals (k, 3) toward the scanner, NaN where a cell has too few points, or its points stand in one line, less than so
        broad (standard deviation); and their scatter (k,) along them, mm."""
        found, scatter = np.full((len(self), 3), np.nan), np.full(len(self), np.nan)
        enough = self.counts >= FEWEST
        count = self.counts[enough, None]
        mean = self.sums[enough] / count
        xx, yy, zz, xy, xz, yz = (self.squares[enough] / count).T
        spread = np.stack([xx, xy, xz, xy, yy, yz, xz, yz, zz], axis=1).reshape(-1, 3, 3) - mean[:, :, None] * mean[:, None, :]
        found[enough], scatter[enough] = _facing(spread, self.ways[enough], np.full(len(spread), broad_mm))
        return found, scatter


def facing(points: Array, near: Indices, ways: Array, broad: float) -> tuple[Array, Array]:
    """Normals (k, 3) of the planes of some of points (n, 3) each, against the ways (k, 3) of light, and the scatter (k,) along
    them, mm.

    ``near`` (k, m) tells which points. NaN where they stand in one line: less broad than that share of how far they reach.
    """
    spread = kernels.spreads(np.ascontiguousarray(points), np.ascontiguousarray(near, np.int64))
    return _facing(spread, ways, broad * np.sqrt(np.trace(spread, axis1=1, axis2=2)))


def _facing(spread: Array, ways: Array, broad_mm: Array) -> tuple[Array, Array]:
    """Of covariances (k, 3, 3)."""
    normal, values = kernels.thinnest(np.ascontiguousarray(spread))
    normal = normal * np.where(np.einsum("ij,ij->i", normal, ways) > 0, -1.0, 1.0)[:, None]
    flat = (values[:, 1] > 4 * values[:, 0]) & (values[:, 1] > broad_mm**2)  # what is a line of points faces no way
    return np.where(flat[:, None], normal, np.nan), np.sqrt(np.maximum(values[:, 0], 0.0))


def cells_of(seen: Seen, spacing_mm: float) -> Cells:
    """Points put into cubes of that length."""
    places = np.floor(seen.points / spacing_mm).astype(np.int64) + REACH
    keys = (places[:, 0] * 2 * REACH + places[:, 1]) * 2 * REACH + places[:, 2]
    kept, first, cell, counts = np.unique(keys, return_index=True, return_inverse=True, return_counts=True)
    off = seen.points - seen.points[first][cell]
    x, y, z = off.T

    def summed(values: Array) -> Array:
        return np.stack([np.bincount(cell, column, len(kept)) for column in values.T], axis=1)

    squares = summed(np.stack([x * x, y * y, z * z, x * y, x * z, y * z], axis=1))
    brightness = summed(seen.brightness[:, None])[:, 0] / counts
    return Cells(kept, seen.points[first], seen.lines[first], summed(seen.ways), brightness, counts, summed(off), squares)


def together(parts: Iterable[Cells]) -> Cells | None:
    """Cells of several parts of a cloud as one; of each the point of the first part that has it."""
    whole: Cells | None = None
    waiting: list[Cells] = []
    for part in parts:
        waiting.append(part)
        if sum(map(len, waiting)) > TOGETHER:
            whole, waiting = _joined([whole, *waiting] if whole is not None else waiting), []
    if waiting:
        whole = _joined([whole, *waiting] if whole is not None else waiting)
    return whole


def _joined(parts: list[Cells]) -> Cells:
    each = {field.name: np.concatenate([getattr(part, field.name) for part in parts]) for field in fields(Cells)}
    keys, first, cell = np.unique(each["keys"], return_index=True, return_inverse=True)
    # moments about another first point
    by = each["points"] - each["points"][first][cell]
    n, s = each["counts"][:, None], each["sums"]
    x, y, z = by.T
    sx, sy, sz = s.T
    count = each["counts"]
    crossed = np.stack(
        [2 * sx * x, 2 * sy * y, 2 * sz * z, sx * y + sy * x, sx * z + sz * x, sy * z + sz * y], axis=1
    ) + count[:, None] * np.stack([x * x, y * y, z * z, x * y, x * z, y * z], axis=1)  # fmt: skip

    def summed(values: Array) -> Array:
        return np.stack([np.bincount(cell, column, len(keys)) for column in values.T], axis=1)

    counts = np.bincount(cell, count, len(keys)).astype(np.int64)
    brightness = np.bincount(cell, each["brightness"] * count, len(keys)) / counts
    return Cells(
        keys, each["points"][first], each["lines"][first], summed(each["ways"]), brightness, counts, summed(s + n * by),
        summed(each["squares"] + crossed),
    )  # fmt: skip
