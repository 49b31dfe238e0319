"""Sizes of tolerance zones that contain given points, in space and relative to a datum.

A zone is the space between two parallel planes (a slab), or inside a cylinder or sphere. Its orientation is that of the
datum (ISO 1101, ISO 5459); what the datum leaves free is chosen so that the zone is the least (memory; the definitions of
the 2017 edition). All in mm.
"""

from __future__ import annotations

import numpy as np
from scipy.optimize import minimize_scalar
from scipy.spatial import ConvexHull, QhullError

from ..frames import Array, angle_between, cross, perpendicular_pair, unit

SWING_RAD = 0.2  # by which the least slab may turn from where the points' own plane points
FLAT_MM = 1e-9


def spread(points: Array, along: Array) -> float:
    """The slab of that normal which holds the points (n, 3).

    >>> spread(np.array([[0, 0, 0.02], [50, 0, -0.01], [0, 40, 0.0]]), np.array([0, 0, 1.0]))
    0.03
    """
    return float(np.ptp(points @ along))


def least_slab_across(points: Array, axis: Array) -> float:
    """The least slab that holds the points and is parallel to an axis: it may turn about that.

    Seen along the axis it is the least width of a flat set of points, which touches one side of its convex hull whole
    (G. T. Toussaint, "Solving geometric problems with the rotating calipers", 1983).
    """
    u, v = perpendicular_pair(unit(axis))
    flat = points @ np.column_stack([u, v])
    try:
        sides = ConvexHull(flat).equations[:, :2]
    except QhullError:  # all in one line, or too few
        middle = flat - flat.mean(axis=0)
        _, sizes, ways = np.linalg.svd(middle, full_matrices=False)
        return float(np.ptp(middle @ ways[-1])) if len(sizes) == 2 and sizes[-1] > FLAT_MM else 0.0
    return float(np.min(np.ptp(flat @ sides.T, axis=0)))


def least_slab_at(points: Array, axis: Array, angle_rad: float, near: Array) -> float:
    """The least slab whose normal stands at an angle to an axis; ``near``: about where that normal points."""
    axis = unit(axis)
    if near @ axis < 0:
        near = -near
    u = unit(near - (near @ axis) * axis)
    v = cross(axis, u)

    def width(turn: float) -> float:
        across = np.cos(turn) * u + np.sin(turn) * v
        return spread(points, np.cos(angle_rad) * axis + np.sin(angle_rad) * across)

    found = minimize_scalar(width, bounds=(-SWING_RAD, SWING_RAD), method="bounded", options={"xatol": 1e-10})
    return float(min(found.fun, width(0.0)))


def stands_like(near: Array, axis: Array, angle_rad: float) -> Array:
    """The direction (3,) that stands at an angle to an axis, as near to another as can be."""
    axis = unit(axis)
    axis = -axis if near @ axis < 0 else axis
    across = near - (near @ axis) * axis
    size = float(np.linalg.norm(across))
    return np.asarray(np.cos(angle_rad) * axis + (np.sin(angle_rad) / size * across if size > FLAT_MM else 0.0))


def length_at(ends: Array, axis: Array, angle_rad: float) -> float:
    """The zone that a straight axis (2, 3) needs where it should stand at an angle to a datum's direction.

    At a right angle to it the zone is a slab square to the direction, else a cylinder that may stand anywhere at that angle.
    """
    along = ends[1] - ends[0]
    length = float(np.linalg.norm(along))
    if length <= FLAT_MM:
        return 0.0
    return length * abs(float(np.sin(angle_between(along, axis) - angle_rad)))


def about_line(points: Array, at: Array, direction: Array) -> Array:
    """(n, 3) from a line to each of some points."""
    rel = points - at
    direction = unit(direction)
    return rel - np.outer(rel @ direction, direction)


def from_axis(points: Array, at: Array, direction: Array) -> Array:
    """(n,) distances from an axis: what a dial reads as the part turns on it.

    >>> from_axis(np.array([[3.0, 4.0, 9.0]]), np.zeros(3), np.array([0, 0, 1.0])).tolist()
    [5.0]
    """
    return np.asarray(np.linalg.norm(about_line(points, at, direction), axis=1))
