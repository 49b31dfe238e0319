"""Space about a part in blocks: in most of them only one face is near, which need not be looked for then."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, minimum_filter1d

from ..core import kernels
from ..core.frames import Array

MOST, FINEST_MM, WIDER = 8_000_000, 0.25, 1.05  # blocks, their least width, and a step of it
WELDED_MM = 1e-4  # so near are corners one
ABOUT = 4  # blocks on every side of one in which no other face is: at least 2 √3, see below
NOBODY = -1


@dataclass(frozen=True, eq=False)
class Blocks:
    """``face`` (a, b, c): the only one that is near to a block, or ``NOBODY``; ``on_it`` (a, b, c): a face passes through, or
    close by. Blocks are ``size`` mm wide, from ``low`` (3,) on.

    Notes
    -----
    Where a block has but one face, no other face and no border of it is nearer than ``ABOUT`` blocks to any place in it. A
    foot on the face's own surface without bounds lies on the face if a face passes through the foot's block: were it beyond
    a border, that would lie within two blocks' diagonals of it, and the block would have none.
    """

    low: Array
    size: float
    face: NDArray[np.int32]
    on_it: NDArray[np.bool_]

    @property
    def sure_mm(self) -> float:
        """A foot no farther off is the nearest, also of what triangles only come near to."""
        return (ABOUT - 1) * self.size

    @classmethod
    def of(cls, corners: Array, triangles: NDArray[np.int64], face_of: NDArray[np.int64]) -> Blocks:
        """Of triangles (t, 3) of corners (n, 3); ``face_of`` (t,)."""
        used = corners[triangles.ravel()]
        extent = np.maximum(np.ptp(used, axis=0), FINEST_MM)
        size = FINEST_MM
        while (grid := np.ceil(extent / size) + 2 * ABOUT + 3).prod() > MOST:
            size *= WIDER
        low = used.min(axis=0) - (ABOUT + 1) * size
        grid = tuple(grid.astype(int))
        nothing, anything = np.int32(-1), np.int32(face_of.max(initial=0) + 1)
        least, most = np.full(grid, anything), np.full(grid, nothing)
        each = np.ascontiguousarray(corners[triangles], float)
        kernels.mark_blocks(each, face_of.astype(np.int32), low, size, least, most)
        on_it = most > nothing
        borders = _borders(corners, triangles, face_of)
        lines = np.ascontiguousarray(corners[borders[:, [0, 1, 1]]], float)
        for label in (nothing, anything):  # two that no face has: whatever is near to a border is nobody's
            kernels.mark_blocks(lines, np.full(len(lines), label, np.int32), low, size, least, most)
        for axis in range(3):
            minimum_filter1d(least, 2 * ABOUT + 1, axis, least, "nearest")
            maximum_filter1d(most, 2 * ABOUT + 1, axis, most, "nearest")
        return cls(low, size, np.where(least == most, least, NOBODY).astype(np.int32), on_it)

    def face_at(self, places: Array) -> NDArray[np.int32]:
        """(n,) the only face near to each of places (n, 3), or ``NOBODY``."""
        number, there = self._numbers(places)
        return np.where(there, self.face.ravel()[number], NOBODY)

    def has(self, feet: Array, face: int) -> NDArray[np.bool_]:
        """(n,) whether feet (n, 3) on the surface of a face lie on the face itself, and no other is near."""
        number, there = self._numbers(feet)
        return there & self.on_it.ravel()[number] & (self.face.ravel()[number] == face)

    def _numbers(self, places: Array) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """Numbers (n,) of the blocks of places (n, 3), and whether they lie within the grid."""
        at = np.floor((places - self.low) / self.size)
        there = np.all((at >= 0) & (at < self.face.shape), axis=1)
        a, b, c = np.where(there[:, None], at, 0).astype(np.int64).T
        return (a * self.face.shape[1] + b) * self.face.shape[2] + c, there


def _borders(corners: Array, triangles: NDArray[np.int64], face_of: NDArray[np.int64]) -> NDArray[np.int64]:
    """Edges (k, 2) beside which no second triangle of the same face lies; where a face closes on itself, one does."""
    _, first, place = np.unique(np.round(corners / WELDED_MM).astype(np.int64), axis=0, return_index=True, return_inverse=True)
    edges = np.sort(place.ravel()[triangles[:, [0, 1, 1, 2, 2, 0]]].reshape(-1, 2), axis=1)
    names = (np.repeat(face_of, 3) * len(first) + edges[:, 0]) * len(first) + edges[:, 1]
    _, one, count = np.unique(names, return_index=True, return_counts=True)
    return first[edges[one[count == 1]]]
