"""What of a cloud counts: what is cut away by regions between planes, or as it lies too far from the part's CAD."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..frames import Array, unit

Place = tuple[float, float, float]
Flags = NDArray[np.bool_]
Off = Callable[[Array], Array]  # places (n, 3) in the part -> how far (n,) they lie off its CAD


class Side(Protocol):
    """A plane in the world whose normal points out of the region that it bounds."""

    @property
    def point(self) -> Place: ...

    @property
    def normal(self) -> Place: ...


class Cutting(Protocol):
    """``on_cad``: it asks how far places lie off the part's CAD."""

    @property
    def on_cad(self) -> bool: ...

    def leaves(self, points: Array, off: Off | None) -> Flags:
        """(n,) which points (n, 3) it does not cut away."""
        ...


def inside(points: Array, sides: Sequence[Side]) -> Flags:
    """(n,) which points (n, 3) lie inside of all sides."""
    found = np.ones(len(points), bool)
    for side in sides:
        found &= (points - np.array(side.point)) @ unit(np.array(side.normal)) < 0
    return found


def left_by(points: Array, cuts: Iterable[Cutting], off: Off | None = None) -> Flags:
    """(n,) which points (n, 3) nothing cuts away."""
    kept = np.ones(len(points), bool)
    for cut in cuts:
        kept[kept] = cut.leaves(points[kept], off)
    return kept
