"""Whose points they are: each is given to one face of the CAD at most; what lies off the others is left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..frames import Array, Indices

NORMAL = 1.4826  # of a median absolute deviation, where errors are normal: P. Rousseeuw, C. Croux, JASA 88 (1993)
OUTLIER = 4.0  # robust sigmas
FINEST_MM = 0.02  # below so much nothing is an outlier
ROUNDS = 3


class Faces(Protocol):
    """Of a part's CAD."""

    def __call__(self, points: Array, margin_mm: float) -> tuple[Array, Array, Indices, NDArray[np.bool_]]:
        """Of places (n, 3) the feet (n, 3), outward normals (n, 3), numbers of the faces (n,), and whether (n,) an edge is
        within a margin of the feet, or these lie beyond it."""
        ...

    def off(self, points: Array) -> Array:
        """(n,) how far places (n, 3) lie off it."""
        ...


@dataclass(frozen=True)
class Rule:
    """Which points are a face's own: not farther off, facing as it does, and not on its edges."""

    within_mm: float = 1.0
    angle_rad: float = 0.35
    margin_mm: float = 1.0


def sorted_out(points: Array, normals: Array, faces: Faces, wanted: Mapping[int, int], rule: Rule) -> dict[int, Indices]:
    """Which points (n, 3), in the part, are whose.

    Parameters
    ----------
    normals : (n, 3) out of the material; NaN where they are not known: those are nobody's
    faces : finds the nearest face of each point
    wanted : face by row; several rows may measure one face

    Returns
    -------
    numbers of the points of each row, rising; rows that get none are there too
    """
    sure = np.flatnonzero(np.isfinite(normals[:, 0]))
    feet, outward, of_face, at_edge = faces(points[sure], rule.margin_mm)
    off = np.einsum("ij,ij->i", points[sure] - feet, outward)
    facing = np.einsum("ij,ij->i", normals[sure], outward) >= np.cos(rule.angle_rad)
    good = facing & (np.abs(off) <= rule.within_mm) & ~at_edge
    found: dict[int, Indices] = {}
    for row, face in wanted.items():
        mine = np.flatnonzero(good & (of_face == face))
        found[row] = sure[mine[with_the_others(off[mine])]]
    return found


def with_the_others(off: Array) -> NDArray[np.bool_]:
    """(n,) what lies with the others: a robust scale about their median, anew without what was left out."""
    kept = np.ones(len(off), bool)
    for _ in range(ROUNDS):
        if not kept.any():
            break
        middle = np.median(off[kept])
        scale = NORMAL * np.median(np.abs(off[kept] - middle))
        now = np.abs(off - middle) <= OUTLIER * max(float(scale), FINEST_MM)
        if np.array_equal(now, kept):
            break
        kept = now
    return kept
