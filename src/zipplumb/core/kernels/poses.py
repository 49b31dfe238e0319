"""Tip centers of many poses."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED


@njit("f8[:,::1](f8[:,::1], f8[::1])", **COMPILED)
def carried(poses, offset):
    """Positions (n, 3) of a point ``offset`` (3,) of the last axis, for poses (n, 7): x y z and the quaternion w x y z."""
    out = np.empty((len(poses), 3))
    a, b, c = offset[0], offset[1], offset[2]
    for i in range(len(poses)):
        w, x, y, z = poses[i, 3], poses[i, 4], poses[i, 5], poses[i, 6]
        size = math.sqrt(w * w + x * x + y * y + z * z)
        w, x, y, z = w / size, x / size, y / size, z / size
        # v + 2 w (q × v) + 2 q × (q × v)
        p, q, r = 2 * (y * c - z * b), 2 * (z * a - x * c), 2 * (x * b - y * a)
        out[i, 0] = poses[i, 0] + a + w * p + y * r - z * q
        out[i, 1] = poses[i, 1] + b + w * q + z * p - x * r
        out[i, 2] = poses[i, 2] + c + w * r + x * q - y * p
    return out
