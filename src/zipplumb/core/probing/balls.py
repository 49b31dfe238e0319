"""Balls of different size in one nest: their centers rest in different places, and are not one point."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..frames import Array
from ..units import mm

ALIKE_MM = 0.05  # by which the diameters of balls of one size may differ


def usual_ball(diameters_mm: Array) -> float:
    """The size that most of some centers are of, by the diameters (n,) mm of their balls; of two that are as frequent, the
    one that came first."""
    sizes, first, counts = np.unique(diameters_mm, return_index=True, return_counts=True)
    alike = another_size(sizes[:, None], sizes) @ -counts  # each less those of another size
    most = alike == alike.max()
    return float(sizes[most][np.argmin(first[most])])


def another_size(diameters_mm: Array | float, other_mm: Array | float) -> NDArray[np.bool_]:
    """Which are of another size, in whose nest a center rests elsewhere."""
    return np.abs(np.subtract(diameters_mm, other_mm)) > ALIKE_MM


def unlike_words(diameters_mm: Array) -> tuple[str, ...]:
    """Why centers of balls of several sizes are no one point, a sentence; none where they are of one size."""
    if not len(diameters_mm) or not (other := another_size(diameters_mm, usual_ball(diameters_mm))).any():
        return ()
    usual, differs = (mm(float(diameters_mm[which][0]), ".1f") for which in (~other, other))
    return (
        f"It was read with balls of {usual} and of {differs}, whose centers rest in different places in one nest. Set those "
        "of one aside.",
    )
