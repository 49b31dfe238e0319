"""Balls of different size in one nest: their centers rest in different places, and are not one point."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..frames import Array
from ..units import mm

ALIKE_MM = 0.05  # by which the diameters of balls of one size may differ


def of_another_ball(diameters_mm: Array) -> NDArray[np.bool_]:
    """(n,) which of some centers are of a ball of another size than most, by the diameters (n,) mm of their balls.

    Of two sizes that are as frequent, the one that came first is the usual one.
    """
    alike = np.abs(diameters_mm[:, None] - diameters_mm) <= ALIKE_MM
    usual = diameters_mm[np.argmax(alike.sum(axis=1))]
    return np.abs(diameters_mm - usual) > ALIKE_MM


def unlike_words(diameters_mm: Array) -> tuple[str, ...]:
    """Why centers of balls of several sizes are no one point, a sentence; none where they are of one size."""
    if not len(diameters_mm) or not (other := of_another_ball(diameters_mm)).any():
        return ()
    usual, differs = (mm(float(diameters_mm[which][0]), ".1f") for which in (~other, other))
    return (
        f"It was read with balls of {usual} and of {differs}, whose centers rest in different places in one nest. Set those "
        "of one aside.",
    )
