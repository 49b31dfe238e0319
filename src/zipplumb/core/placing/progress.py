"""How far some turns have come, seen at one place of the detail while it is being moved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..frames import Array

ASTRAY_MM, ASTRAY_SHARE = 0.1, 0.5  # beside the way that the turns make, as a length and of how far it has come


@dataclass(frozen=True)
class Progress:
    """``turn``: which of the turns is being made; ``done``: the share of it, 0 to 1; ``astray``: it goes another way."""

    turn: int
    done: float
    astray: bool


def progress(carries: Array, moved: Array) -> Progress:
    """Where on its way a place is that moved by (3,), when turns made one after another carry it by (k, 3).

    The nearest place of that way is taken, the earliest where several are as near.
    """
    ends = np.vstack([np.zeros(3), np.cumsum(carries, axis=0)])
    square = np.maximum(np.einsum("ki,ki->k", carries, carries), 1e-18)
    share = np.clip(np.einsum("ki,ki->k", carries, moved - ends[:-1]) / square, 0.0, 1.0)
    off = np.linalg.norm(ends[:-1] + share[:, None] * carries - moved, axis=1)
    nearest = int(np.argmin(np.round(off, 6)))
    astray = off[nearest] > max(ASTRAY_MM, ASTRAY_SHARE * float(np.linalg.norm(moved)))
    if share[nearest] >= 1.0 and nearest + 1 < len(carries):
        return Progress(nearest + 1, 0.0, bool(astray))
    return Progress(nearest, float(share[nearest]), bool(astray))
