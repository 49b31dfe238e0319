"""Two-point sizes: the distance of two places that lie across from one another on something round.

Source: ISO 14405-1:2016, two-point size (LP), from memory: on a line through the middle, square to the axis. Hits seldom lie
exactly across, so those count that do within an angle and a height; each is told by its distance from the axis, whose
error over such an angle is of the second order.
"""

from __future__ import annotations

import numpy as np

from ..frames import Array, Indices, perpendicular_pair

ACROSS_RAD = np.radians(10)  # off exactly across
LEVEL = 0.05  # of the length touched, or of the diameter where that is less: off one height
MOST = 4000  # hits among which pairs are looked for


def two_point_sizes(points: Array, at: Array, axis: Array) -> tuple[Array, Indices]:
    """Sizes (m,) of all pairs that lie across from one another, and which two of the points each is of (m, 2).

    Parameters
    ----------
    points : (n, 3) on the surface; ``at`` (3,) on the axis, along ``axis`` (3,)
    """
    rel = points - at
    height = rel @ axis
    u, v = perpendicular_pair(axis)
    flat = np.column_stack([rel @ u, rel @ v])
    radius = np.linalg.norm(flat, axis=1)
    if len(points) > MOST:
        raise ValueError(f"two-point sizes are looked for among {MOST} hits at the most")
    away = flat / np.maximum(radius, 1e-12)[:, None]
    level = LEVEL * min(float(np.ptp(height)), 2 * float(radius.mean())) + 1e-9
    first, second = np.nonzero(np.triu(away @ away.T < -np.cos(ACROSS_RAD), 1))
    same = np.abs(height[first] - height[second]) <= max(level, 1e-6)
    pairs = np.column_stack([first[same], second[same]])
    return radius[pairs].sum(axis=1), pairs.astype(np.int64)
