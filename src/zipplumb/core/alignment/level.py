"""Level: upright from the instrument's own level or a measured plane."""

from __future__ import annotations

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
