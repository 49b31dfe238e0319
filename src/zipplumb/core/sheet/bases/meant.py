"""What a row knows of its shape besides the hits: what it should be, and which way the tip came."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np

from ...features import sizes_of
from ...fitting import Meant, Placed
from ...frames import Array
from ...probing import surface_from_centers
from ..row_hits import RowHits

SIZE_OFF = 0.05  # of a size: so much a rough part may differ, as one standard deviation
SLANT_RAD = np.radians(30)  # by which a hand comes slantwise, as one standard deviation
AT_MOST_SIZE, AT_MOST_SLANT = 9.0, 4.0  # of chi square: a nominal may be typed wrong, and a tip may come along a bore


def meant(nominal: Any, air: int | None, hits: RowHits) -> Meant:
    """Of a row with this nominal and side, if it has them."""
    come = np.isfinite(hits.approach).all(axis=1)
    ways = hits.approach[come] - hits.centers[come]
    lengths = np.linalg.norm(ways, axis=1)
    there = lengths > 0
    touched = np.ascontiguousarray(hits.centers[come][there])
    tip = float(hits.radii_mm[0])
    return Meant(partial(_unlikely, nominal, air, tip, touched, ways[there] / lengths[there, None]), hits.u_hit_mm)


def _unlikely(nominal: Any, air: int | None, tip_mm: float, touched: Array, ways: Array, shape: Any) -> float:
    """Chi square of a shape of tip centers; ``ways`` (n, 3): units, to where the tip came from at each hit (n, 3)."""
    out = np.einsum("ij,ij->i", Placed.of(shape).gradients(touched), ways)
    side = air or int(np.sign(out.sum())) or 1
    slants = np.arccos(np.clip(side * out, -1.0, 1.0)) / SLANT_RAD
    found = float(np.minimum(slants**2, AT_MOST_SLANT).sum())
    if nominal is None:
        return found
    try:
        surface = surface_from_centers(shape, tip_mm, side)
    except ValueError:
        return found + AT_MOST_SIZE
    off = sum(((getattr(surface, name) / getattr(nominal, name) - 1) / SIZE_OFF) ** 2 for name in sizes_of(nominal))
    return found + min(off, AT_MOST_SIZE)
