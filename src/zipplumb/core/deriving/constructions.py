"""Shapes made of shapes. Each function takes shapes and gives one, or raises DeriveError saying why not."""

from __future__ import annotations

import numpy as np

from ..errors import DeriveError
from ..fitting import fit
from ..frames import Array, unit
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point

PARALLEL = np.radians(0.05)  # nearer to parallel than this, a meeting place says nothing
KEPT = "The features are kept."


def _between(a: Array, b: Array) -> float:
    """Angle of two directions without sense, 0 to 90°."""
    return float(np.arctan2(np.linalg.norm(np.cross(a, b)), abs(a @ b)))


def meet_planes(first: Plane, second: Plane) -> Line:
    """The line in which two planes meet, its point nearest to the middle of the two."""
    angle = _between(first.normal, second.normal)
    if angle < PARALLEL:
        gap = abs(float(first.distance(second.point[None])[0]))
        raise DeriveError(
            f"The planes are {np.degrees(angle):.4f}° from parallel: they meet {gap / max(np.tan(angle), 1e-12):.3g} mm away.",
            KEPT,
            "Ask for their distance.",
        )
    direction = unit(np.cross(first.normal, second.normal))
    middle = (first.point + second.point) / 2
    system = np.array([first.normal, second.normal, direction])
    place = np.linalg.solve(system, [first.normal @ first.point, second.normal @ second.point, direction @ middle])
    return Line(place, direction)


def meet_three_planes(first: Plane, second: Plane, third: Plane) -> Point:
    normals = np.array([first.normal, second.normal, third.normal])
    if abs(np.linalg.det(normals)) < np.sin(PARALLEL):
        raise DeriveError("The three planes meet in no one corner.", KEPT, "Choose planes across one another.")
    heights = [p.normal @ p.point for p in (first, second, third)]
    return Point(np.linalg.solve(normals, heights))


def pierce(line: Line, plane: Plane) -> Point:
    """Where a line, or an axis, goes through a plane."""
    slope = float(line.direction @ plane.normal)
    if abs(slope) < np.sin(PARALLEL):
        raise DeriveError("The line runs along the plane and never meets it.", KEPT, "Ask for their distance.")
    return Point(line.point + line.direction * float(plane.normal @ (plane.point - line.point)) / slope)


def nearest_points(first: Line, second: Line) -> tuple[Array, Array]:
    """Feet of the common perpendicular of two lines."""
    across = np.cross(first.direction, second.direction)
    if np.linalg.norm(across) < np.sin(PARALLEL):
        raise DeriveError("The lines are parallel, so no place on them is nearest.", KEPT, "Ask for their distance.")
    gap = second.point - first.point
    square = across @ across
    one = first.point + first.direction * (np.cross(gap, second.direction) @ across) / square
    other = second.point + second.direction * (np.cross(gap, first.direction) @ across) / square
    return one, other


def meet_lines(first: Line, second: Line) -> Point:
    """The middle of the common perpendicular: where two lines meet as nearly as they do."""
    one, other = nearest_points(first, second)
    return Point((one + other) / 2)


def drop_on_plane(point: Array, plane: Plane) -> Point:
    return Point(point - float(plane.distance(point[None])[0]) * plane.normal)


def drop_on_line(point: Array, line: Line) -> Point:
    return Point(line.point + line.direction * float((point - line.point) @ line.direction))


def middle_point(first: Array, second: Array) -> Point:
    return Point((first + second) / 2)


def through_points(first: Array, second: Array) -> Line:
    if np.linalg.norm(second - first) < 1e-9:
        raise DeriveError("The two points are one and the same.", KEPT, "Choose two different points.")
    return Line((first + second) / 2, second - first)


def middle_plane(first: Plane, second: Plane) -> Plane:
    """Half way between two planes that face each other or away; the bisector where they lean."""
    other = second.normal if first.normal @ second.normal > 0 else -second.normal
    return Plane((first.point + second.point) / 2, first.normal + other)


def middle_line(first: Line, second: Line) -> Line:
    other = second.direction if first.direction @ second.direction > 0 else -second.direction
    start = second.point + other * float((first.point - second.point) @ other)
    return Line((first.point + start) / 2, first.direction + other)


def cut_cylinder(cylinder: Cylinder, plane: Plane) -> Circle | Ellipse:
    """The circle or ellipse in which a plane cuts a cylinder."""
    center = pierce(Line(cylinder.point, cylinder.direction), plane).position
    slope = abs(float(cylinder.direction @ plane.normal))
    if _between(cylinder.direction, plane.normal) < 1e-9:
        return Circle(center, plane.normal, cylinder.radius)
    across = unit(np.cross(plane.normal, cylinder.direction))
    return Ellipse(center, plane.normal, np.cross(across, plane.normal), cylinder.radius / slope, cylinder.radius)


def cone_circle(cone: Cone, height_mm: float) -> Circle:
    """The circle of a cone at a height above its apex, along its axis."""
    if height_mm <= 0:
        raise DeriveError("A cone has no circle at or below its apex.", KEPT, "Give a height above the apex.")
    return Circle(cone.apex + height_mm * cone.direction, cone.direction, height_mm * np.tan(cone.half_angle))


def cone_height_of_diameter(cone: Cone, diameter_mm: float) -> float:
    """How far above the apex the cone has a diameter."""
    return diameter_mm / 2 / np.tan(cone.half_angle)


def parallel_through(point: Array, plane: Plane) -> Plane:
    return Plane(point, plane.normal)


def perpendicular_through(point: Array, plane: Plane) -> Line:
    return Line(point, plane.normal)


def plane_through_points(points: Array) -> Plane:
    return fit("plane", points).shape


def line_through_points(points: Array) -> Line:
    return fit("line", points).shape


def circle_through_points(points: Array) -> Circle:
    return fit("circle", points).shape
