"""Points of a file as light that was seen: each is given a place from which it is looked at.

What faces the same way and lies near together is put in one line, as it is called of a scanner, and seen from one place before
it, so that everything that asks from where light came has its answer, and each line's points are small numbers.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .blocks import Array, Block, bad

CELL_MM, LONGEST = 250.0, 4096  # what lies in one cube is near together; points of one line
AWAY_MM = 3000.0  # from where a line is looked at
FINE = 20  # cells along a side of such a cube: neighbours stand together, which is faster for all that looks near a point
REACH = 1 << 18  # cells to either side of the first point that a key can name
FARTHEST_MM = 1e5  # from the first point of a file to any other


@dataclass(frozen=True)
class SeenFrom:
    """From where a file's points were seen: ``place`` (mm), or all round their ``middle`` (mm), or as the file says."""

    place: tuple[float, float, float] | None = None
    middle: tuple[float, float, float] | None = None

    def outward(self, block: Block) -> Array:
        """(n, 3) of any length, from the surface into the air.

        Raises
        ------
        FileError
            Nothing says so.
        """
        if self.place is not None:
            return np.asarray(self.place) - block.points
        if self.middle is not None:
            return block.points - np.asarray(self.middle)
        if block.normals is not None:
            return block.normals
        if block.scanner is not None:
            return block.scanner - block.points
        raise bad(
            "The file tells neither from where its points were seen nor which way the surface faces.",
            "Say from where, or export it with normals.",
        )


@dataclass(frozen=True, eq=False)
class Lines:
    """``places`` (m, 3) from which m lines were seen; ``counts`` (m,) of the points of each; ``points`` (n, 4) packed float32:
    from that place, and brightness, NaN where none is told."""

    places: Array
    counts: NDArray[np.int64]
    points: NDArray[np.float32]


def lines_of(block: Block, seen_from: SeenFrom, first: Array) -> Lines:
    """``first`` (3,): the first point of the file. Raises FileError."""
    points, outward = block.points, seen_from.outward(block)
    if not (np.abs(points - first) <= FARTHEST_MM).all():
        raise bad(
            f"Its points lie farther than {FARTHEST_MM / 1000:.0f} m from one another.",
            "Choose the unit that it was written in, or export less at once.",
        )
    length = np.linalg.norm(outward, axis=1, keepdims=True)
    known = (length[:, 0] > 0) & np.isfinite(length[:, 0])
    usual = outward[known].mean(axis=0) if known.any() else np.array([0, 0, 1.0])
    outward = np.where(known[:, None], outward / np.where(known, length[:, 0], 1.0)[:, None], usual)
    axis = np.argmax(np.abs(outward), axis=1)
    side = 2 * axis + (np.take_along_axis(outward, axis[:, None], axis=1)[:, 0] > 0)
    cube = np.floor((points - first) / (CELL_MM / FINE)).astype(np.int64) + REACH
    cube, fine = np.divmod(cube, FINE)
    key = ((cube[:, 0] * REACH + cube[:, 1]) * REACH + cube[:, 2]) * 6 + side
    order = np.lexsort(((fine[:, 0] * FINE + fine[:, 1]) * FINE + fine[:, 2], key))
    starts = np.flatnonzero(np.diff(key[order], prepend=-1))
    within = np.arange(len(order)) - np.repeat(starts, np.diff(starts, append=len(order)))
    starts = np.flatnonzero(within % LONGEST == 0)
    counts = np.diff(starts, append=len(order))
    middle, way = (np.add.reduceat(each[order], starts) / counts[:, None] for each in (points, outward))
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
    places = middle + AWAY_MM * way
    found = np.full((len(order), 4), np.nan, "<f4")
    found[:, :3] = points[order] - np.repeat(places, counts, axis=0)
    if block.brightness is not None:
        found[:, 3] = block.brightness[order]
    return Lines(places, counts, found)
