"""Two-point sizes: the distance of two places that lie across from one another on something round.

Source: ISO 14405-1:2016, two-point size (LP), from memory: on a line through the middle, square to the axis. Hits seldom lie
exactly across, so those count that do within an angle and a height; each is given by its distance from the axis, whose
error over such an angle is of the second order.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import KDTree

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
    level = max(LEVEL * min(float(np.ptp(height)), 2 * float(radius.mean())) + 1e-9, 1e-6)
    away = flat / np.maximum(radius, 1e-12)[:, None] / (2 * np.sin(ACROSS_RAD / 2))
    # an angle as a chord, a height by its level: what is across and at one height is near, in such axes, to what faces it
    here, facing = (KDTree(np.column_stack([sense * away, height / level])) for sense in (1.0, -1.0))
    near = here.sparse_distance_matrix(facing, np.sqrt(2), output_type="ndarray")
    first, second = near["i"], near["j"]
    chords = np.linalg.norm(away[first] + away[second], axis=1)
    across = (first < second) & (chords < 1) & (np.abs(height[first] - height[second]) <= level)
    pairs = np.column_stack([first[across], second[across]])
    return radius[pairs].sum(axis=1), pairs.astype(np.int64)
