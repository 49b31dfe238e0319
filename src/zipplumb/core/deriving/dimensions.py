"""Distances and angles between shapes, as numbers."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np

from ..errors import DeriveError
from ..frames import Array, cross
from ..shapes import Line, Plane
from .constructions import KEPT, NEARLY_PARALLEL, between, nearest_points, nearest_within

AXES = "XYZ"
Reach: TypeAlias = tuple[Array | None, Array | None]  # (m, 3) places on each that bound what was read


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


def line_to_line(first: Line, second: Line, reach: Reach = (None, None)) -> float:
    """The least distance, within the reach of both where it is known; of lines nearly parallel without one their width.

    Endless lines that are nearly parallel come nearest far away, where nothing is.
    """
    if reach[0] is not None and reach[1] is not None:
        return point_to_point(*nearest_within(first, second, reach[0], reach[1]))
    if lean_of(first, second) < NEARLY_PARALLEL:
        return width_of_parallels(first, second)
    return point_to_point(*nearest_points(first, second))


def line_to_plane(line: Line, plane: Plane) -> float:
    """At the line's middle, for a line that runs along the plane."""
    lean = np.degrees(np.arcsin(min(abs(float(line.direction @ plane.normal)), 1.0)))
    if lean > 10:
        raise DeriveError(
            f"The line leans {lean:.1f}° to the plane, so they have no one distance.", KEPT, "Ask where it goes through."
        )
    return point_to_plane(line.point, plane)


def widths(first: Plane | Line, second: Plane | Line, extent: Array) -> Array:
    """Perpendicular distances (m,) from the first to places on the second.

    ``extent`` (m, 3) is carried onto the second shape, so that it stays where the second moves.
    """
    if isinstance(second, Plane):
        places = extent - np.outer(second.distance(extent), second.normal)
    else:
        places = second.point + np.outer((extent - second.point) @ second.direction, second.direction)
    return np.abs(first.distance(places))


def width_of_parallels(first: Plane | Line, second: Plane | Line) -> float:
    """The mean of the two perpendicular distances, from each one's middle to the other."""
    lean = lean_of(first, second)
    if lean > NEARLY_PARALLEL:
        raise DeriveError(
            f"They are {np.degrees(lean):.1f}° from parallel, so they have no one width.", KEPT, "Ask for their angle."
        )
    return float(abs(first.distance(second.point[None])[0]) + abs(second.distance(first.point[None])[0])) / 2


def lean_of(first: Plane | Line, second: Plane | Line) -> float:
    """How far from parallel two planes or two lines are, 0 to π/2 rad."""
    a, b = (s.normal if isinstance(s, Plane) else s.direction for s in (first, second))
    return between(a, b)


def out_of_parallel(first: Plane | Line, second: Plane | Line) -> float:
    """``lean_of`` what is about parallel, rad. Raises DeriveError of what is nearer to square."""
    lean = lean_of(first, second)
    if lean > np.pi / 4:
        raise DeriveError(f"They are {np.degrees(lean):.1f}° from parallel, nearer to square.", KEPT, "Ask for their angle.")
    return lean


def angle_in_space(first: Array, second: Array) -> float:
    """Between two directions with their sense, 0 to π rad; its supplement is π less it."""
    return float(np.arctan2(np.linalg.norm(cross(first, second)), first @ second))


def angle_along(first: Array, second: Array, axis: int) -> float:
    """The angle seen along X (0), Y (1) or Z (2): from the first to the second, -π to π rad."""
    i, j = (axis + 1) % 3, (axis + 2) % 3
    if np.hypot(first[i], first[j]) < 1e-6 or np.hypot(second[i], second[j]) < 1e-6:
        raise DeriveError(f"A direction is seen end on along {AXES[axis]}.", KEPT, "Look along another axis.")
    turn = np.arctan2(second[j], second[i]) - np.arctan2(first[j], first[i])
    return float((turn + np.pi) % (2 * np.pi) - np.pi)


def line_to_plane_angle(line: Line, plane: Plane) -> float:
    """Between a line and a plane, 0 to π/2 rad."""
    return float(np.arcsin(min(abs(float(line.direction @ plane.normal)), 1.0)))
