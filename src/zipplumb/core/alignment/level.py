"""Level: upright from the instrument's own level or a measured plane, and corners brought to one height."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import AlignmentError
from ..frames import Array, Motion, unit
from .steps import shortest_turn


def levelled(up_world: Array, origin_world: Array | None = None) -> Motion:
    """A system with Z upright, turned from the world's by as little as may be.

    Parameters
    ----------
    up_world : (3,) as the instrument's level tells it, or a measured plane's normal
    origin_world : (3,) its zero, by default the world's

    Raises
    ------
    AlignmentError
        A direction that is none.
    """
    up = np.asarray(up_world, float)
    if up.shape != (3,) or not np.all(np.isfinite(up)) or not np.any(up):
        raise AlignmentError("The level gives no direction.", "Nothing was changed.", "Read the level again.")
    turn = shortest_turn(unit(up), np.array([0.0, 0, 1]))
    zero = np.zeros(3) if origin_world is None else np.asarray(origin_world, float)
    return Motion(turn, -turn @ zero)


def lean(normal: Array, up: Array, zero: tuple[float, float] = (0.0, 0.0)) -> tuple[float, float]:
    """How a plane leans about X and about Y, rad, against a relative zero taken earlier."""
    x, y, z = shortest_turn(unit(up), np.array([0.0, 0, 1])) @ unit(normal)
    return float(-np.arctan2(y, z) - zero[0]), float(np.arctan2(x, z) - zero[1])


@dataclass(frozen=True)
class Corner:
    """``height_mm`` above the reference; ``move_mm``: by how much it must go up (+) or down to come level with it."""

    name: str
    height_mm: float
    move_mm: float


def corner_heights(
    names: Sequence[str], points_world: Array, up_world: Array, reference: str | None = None
) -> tuple[Corner, ...]:
    """Corners against one of them, or against their mean height.

    Raises AlignmentError for fewer than two corners, or a reference that is none of them.
    """
    points = np.asarray(points_world, float).reshape(-1, 3)
    if len(points) < 2 or len(points) != len(names):
        raise AlignmentError("Levelling needs two corners.", "The points are kept.", "Measure another.")
    if reference is not None and reference not in names:
        raise AlignmentError(f"{reference} is none of the corners.", "The points are kept.", "Choose one of them.")
    heights = points @ unit(up_world)
    zero = heights.mean() if reference is None else heights[list(names).index(reference)]
    return tuple(Corner(n, float(h - zero), float(zero - h)) for n, h in zip(names, heights, strict=True))
