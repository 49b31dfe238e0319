"""Distances and angles between shapes, as numbers."""

from __future__ import annotations

import numpy as np

from ..errors import DeriveError
from ..frames import Array
from ..shapes import Line, Plane
from .constructions import KEPT, nearest_points

AXES = "XYZ"


def point_to_point(first: Array, second: Array) -> float:
    return float(np.linalg.norm(second - first))


def along_axes(first: Array, second: Array) -> Array:
    """Components (3,) from the first to the second, along X, Y and Z."""
    return second - first


def in_planes(first: Array, second: Array) -> Array:
    """Distances (3,) as seen in the planes YZ, XZ and XY."""
    x, y, z = second - first
    return np.array([np.hypot(y, z), np.hypot(x, z), np.hypot(x, y)])


def point_to_plane(point: Array, plane: Plane) -> float:
    """Signed: + on the side of the normal."""
    return float(plane.distance(point[None])[0])


def point_to_line(point: Array, line: Line) -> float:
    return float(line.distance(point[None])[0])


def line_to_line(first: Line, second: Line) -> float:
    """The least distance; for parallel lines the distance anywhere."""
    try:
        one, other = nearest_points(first, second)
    except DeriveError:
        return point_to_line(second.point, first)
    return point_to_point(one, other)


def line_to_plane(line: Line, plane: Plane) -> float:
    """At the line's middle, for a line that runs along the plane."""
    lean = np.degrees(np.arcsin(min(abs(float(line.direction @ plane.normal)), 1.0)))
    if lean > 10:
        raise DeriveError(
            f"The line leans {lean:.1f}° to the plane, so they have no one distance.", KEPT, "Ask where it goes through."
        )
    return point_to_plane(line.point, plane)


def angle_in_space(first: Array, second: Array) -> float:
    """Between two directions with their sense, 0 to π rad; its supplement is π less it."""
    return float(np.arctan2(np.linalg.norm(np.cross(first, second)), first @ second))


def angle_along(first: Array, second: Array, axis: int) -> float:
    """As seen along X (0), Y (1) or Z (2): from the first to the second, -π to π rad."""
    i, j = (axis + 1) % 3, (axis + 2) % 3
    if np.hypot(first[i], first[j]) < 1e-6 or np.hypot(second[i], second[j]) < 1e-6:
        raise DeriveError(f"A direction is seen end on along {AXES[axis]}.", KEPT, "Look along another axis.")
    turn = np.arctan2(second[j], second[i]) - np.arctan2(first[j], first[i])
    return float((turn + np.pi) % (2 * np.pi) - np.pi)


def line_to_plane_angle(line: Line, plane: Plane) -> float:
    """Between a line and a plane, 0 to π/2 rad."""
    return float(np.arcsin(min(abs(float(line.direction @ plane.normal)), 1.0)))
