"""Points of a scan that are a row's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..frames import Array, Indices

OF_A_ROW = 2_000  # points at most


def evenly(some: Indices, most: int) -> Indices:
    """So many of them at most, evenly spread in their order."""
    return some if len(some) <= most else some[np.linspace(0, len(some) - 1, most).astype(np.int64)]


@dataclass(frozen=True, eq=False)
class GivenPoints:
    """The points of a scan that are a row's: ``points`` (k, 3) in the world, ``lines`` (k,) of light that they are of.

    Of edges also ``pulls`` (k, 3), by which those of one of the ``sides`` (k,) err together, and ``u_mm``, by which each errs.
    """

    points: Array
    lines: Indices
    pulls: Array | None = None
    sides: Indices | None = None
    u_mm: float = 0.0
