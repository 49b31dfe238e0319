"""What of a cloud counts: what is cut away by planes."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..frames import Array, unit


class Cutting(Protocol):
    """A plane in the world; what lies behind it, against its normal, is cut away."""

    @property
    def point(self) -> tuple[float, float, float]: ...

    @property
    def normal(self) -> tuple[float, float, float]: ...


def before(points: Array, cuts: Iterable[Cutting]) -> NDArray[np.bool_]:
    """(n,) which points (n, 3) no plane cuts away."""
    kept = np.ones(len(points), bool)
    for cut in cuts:
        kept &= (points - np.array(cut.point)) @ unit(np.array(cut.normal)) >= 0
    return kept
