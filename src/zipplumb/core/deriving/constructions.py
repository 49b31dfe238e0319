"""Shapes made of shapes. Each function takes shapes and gives one, or raises DeriveError saying why not."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..errors import DeriveError
from ..fitting import fit
from ..frames import Array, cross, unit
from ..frames import angle_between as between
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Sphere
from ..units import mm

PARALLEL = np.radians(0.05)  # nearer to parallel than this, a meeting place says nothing
NEARLY_PARALLEL = np.radians(10)
NEARLY_SQUARE = np.sin(np.radians(1))  # the cosine up to which the senses, not the smaller angle, tell two bisectors apart
ROUND = 1e-3  # of what points in order go round about, at the least, to tell a sense
FARTHEST_MM = 1e8
KEPT = "The features are kept."


def meeting_distance(first: Plane, second: Plane) -> float:
    """How far from the second plane's middle two nearly parallel planes meet, mm."""
    gap = abs(float(first.distance(second.point[None])[0]))
    return gap / max(float(np.tan(between(first.normal, second.normal))), 1e-12)


def meet_planes(first: Plane, second: Plane) -> Line:
    """The line in which two planes meet, its point nearest to the middle of the two."""
    angle = between(first.normal, second.normal)
    if angle < PARALLEL:
        away = meeting_distance(first, second)
        raise DeriveError(
            f"The planes are {np.degrees(angle):.4f}° from parallel: they meet "
            + (f"{mm(away, '.3g')} away." if away < FARTHEST_MM else "nowhere."),
            KEPT,
            "Ask for their distance.",
        )
    direction = unit(cross(first.normal, second.normal))
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
    across = cross(first.direction, second.direction)
    if np.linalg.norm(across) < np.sin(PARALLEL):
        raise DeriveError("The lines are parallel, so no place on them is nearest.", KEPT, "Ask for their distance.")
    gap = second.point - first.point
    square = across @ across
    one = first.point + first.direction * (cross(gap, second.direction) @ across) / square
    other = second.point + second.direction * (cross(gap, first.direction) @ across) / square
    return one, other


def nearest_within(first: Line, second: Line, reach_first: Array, reach_second: Array) -> tuple[Array, Array]:
    """Places of two lines that are nearest to each other, within what was read of each.

    ``reach``: (m, 3) places that bound it. Source: C. Ericson, Real-Time Collision Detection (2005), 5.1.9.
    """
    ends = [(r - line.point) @ line.direction for line, r in ((first, reach_first), (second, reach_second))]
    (low_s, high_s), (low_t, high_t) = ((float(e.min()), float(e.max())) for e in ends)
    gap, along = first.point - second.point, float(first.direction @ second.direction)
    c, f = float(first.direction @ gap), float(second.direction @ gap)
    square = 1 - along * along
    s = (along * f - c) / square if square > 1e-12 else (low_s + high_s) / 2
    s = min(max(s, low_s), high_s)
    t = along * s + f
    if not low_t <= t <= high_t:
        t = min(max(t, low_t), high_t)
        s = min(max(along * t - c, low_s), high_s)
    return first.point + s * first.direction, second.point + t * second.direction


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


def beyond(first: Array, second: Array, by_mm: float) -> Point:
    """On the line from the first through the second, so far beyond that: what a bar with two reflectors reaches to."""
    return Point(second + by_mm * through_points(first, second).direction)


def through_points(first: Array, second: Array) -> Line:
    if np.linalg.norm(second - first) < 1e-9:
        raise DeriveError("The two points are one and the same.", KEPT, "Choose two different points.")
    return Line((first + second) / 2, second - first)


def _alike(first: Array, second: Array) -> Array:
    """The second direction, turned to the side of the first; nearly square to it, as it is."""
    return second if first @ second > -NEARLY_SQUARE else -second


def middle_plane(first: Plane, second: Plane) -> Plane:
    """Half way between two planes that face each other or away."""
    lean = between(first.normal, second.normal)
    if lean > np.radians(10):
        raise DeriveError(
            f"The planes are {np.degrees(lean):.1f}° from parallel, so none is half way.", KEPT, "Ask for their bisector."
        )
    return Plane((first.point + second.point) / 2, first.normal + _alike(first.normal, second.normal))


def bisector_plane(first: Plane, second: Plane, other: bool = False) -> Plane:
    """Through the line in which two planes meet, halving the angle of their normals, or the other angle."""
    line = meet_planes(first, second)
    return Plane(line.point, first.normal - second.normal if other else first.normal + second.normal)


def plane_between_points(first: Array, second: Array) -> Plane:
    """The plane of all places as far from one point as from the other."""
    return Plane((first + second) / 2, through_points(first, second).direction)


def middle_line(first: Line, second: Line) -> Line:
    """Half way between two lines that are nearly parallel; it points as the first does."""
    lean = between(first.direction, second.direction)
    if lean > NEARLY_PARALLEL:
        raise DeriveError(
            f"The lines are {np.degrees(lean):.1f}° from parallel, so none is half way.", KEPT, "Ask for their bisector."
        )
    other = _alike(first.direction, second.direction)
    start = second.point + other * float((first.point - second.point) @ other)
    return Line((first.point + start) / 2, first.direction + other)


def bisector(first: Line, second: Line, wide: bool = False) -> Line:
    """Through the place where two lines come nearest, halving their angle, or the wider one."""
    other = _alike(first.direction, second.direction)
    place = meet_lines(first, second).position
    return Line(place, first.direction - other if wide else first.direction + other)


def plane_through_lines(first: Line, second: Line) -> Plane:
    """The plane along both lines, half way between them where they do not meet.

    Its normal is that of a turn from the first direction to the second; of lines nearly parallel, from the first direction to
    where the second line lies.
    """
    if between(first.direction, second.direction) < NEARLY_PARALLEL:
        direction = unit(first.direction + _alike(first.direction, second.direction))
        gap = second.point - first.point
        across = gap - (gap @ direction) * direction
        if np.linalg.norm(across) < 1e-9:
            raise DeriveError("The two lines are one and the same.", KEPT, "Choose two different lines.")
        return Plane((first.point + second.point) / 2, cross(first.direction, across))
    return Plane(meet_lines(first, second).position, cross(first.direction, second.direction))


def plane_through_point_and_line(point: Array, line: Line) -> Plane:
    across = cross(line.direction, point - line.point)
    if np.linalg.norm(across) < 1e-9:
        raise DeriveError("The point lies on the line, so every plane about it would do.", KEPT, "Choose another point.")
    return Plane((point + drop_on_line(point, line).position) / 2, across)


def line_on_plane(line: Line, plane: Plane) -> Line:
    """A line as it is seen on a plane."""
    flat = line.direction - (line.direction @ plane.normal) * plane.normal
    if np.linalg.norm(flat) < np.sin(PARALLEL):
        raise DeriveError("The line stands upright on the plane, so only a point is seen.", KEPT, "Ask where it goes through.")
    return Line(drop_on_plane(line.point, plane).position, flat)


def upright_plane(line: Line, plane: Plane) -> Plane:
    """The plane through a line that stands square on another plane."""
    return Plane(line.point, cross(line_on_plane(line, plane).direction, plane.normal))


def cut_cylinder(cylinder: Cylinder, plane: Plane) -> Circle | Ellipse:
    """The circle or ellipse in which a plane cuts a cylinder."""
    center = pierce(Line(cylinder.point, cylinder.direction), plane).position
    slope = abs(float(cylinder.direction @ plane.normal))
    if between(cylinder.direction, plane.normal) < PARALLEL:
        return Circle(center, plane.normal, cylinder.radius)
    across = unit(cross(plane.normal, cylinder.direction))
    return Ellipse(center, plane.normal, cross(across, plane.normal), cylinder.radius / slope, cylinder.radius)


def cut_sphere(sphere: Sphere, plane: Plane) -> Circle:
    """The circle in which a plane cuts a sphere."""
    height = float(plane.distance(sphere.center[None])[0])
    if abs(height) >= sphere.radius:
        raise DeriveError(
            f"The plane passes {mm(abs(height) - sphere.radius, '.3g')} outside the sphere.", KEPT, "Choose another plane."
        )
    return Circle(sphere.center - height * plane.normal, plane.normal, np.sqrt(sphere.radius**2 - height**2))


def circle_on_plane(circle: Circle, plane: Plane) -> Circle | Ellipse:
    """A circle as it is seen on a plane: its shadow along the plane's normal."""
    center = drop_on_plane(circle.center, plane).position
    slope = abs(float(circle.normal @ plane.normal))
    if slope < np.sin(PARALLEL):
        raise DeriveError("The circle is seen edge on, so only a line is left.", KEPT, "Choose a plane more nearly along it.")
    if between(circle.normal, plane.normal) < PARALLEL:
        return Circle(center, plane.normal, circle.radius)
    across = unit(cross(plane.normal, circle.normal))
    return Ellipse(center, plane.normal, across, circle.radius, circle.radius * slope)


def cone_circle(cone: Cone, height_mm: float) -> Circle:
    """The circle of a cone at a height above its apex, along its axis."""
    if height_mm <= 0:
        raise DeriveError("A cone has no circle at or below its apex.", KEPT, "Give a height above the apex.")
    return Circle(cone.apex + height_mm * cone.direction, cone.direction, height_mm * np.tan(cone.half_angle))


def cone_circle_of_diameter(cone: Cone, diameter_mm: float) -> Circle:
    """The circle at which a cone has a diameter: the gauge plane of the drawing."""
    if diameter_mm <= 0:
        raise DeriveError("A cone has no such diameter.", KEPT, "Give a diameter above zero.")
    return cone_circle(cone, diameter_mm / 2 / np.tan(cone.half_angle))


def cone_circle_at_plane(cone: Cone, plane: Plane) -> Circle:
    """The circle square to the axis where the axis goes through a plane."""
    center = pierce(Line(cone.apex, cone.direction), plane).position
    return cone_circle(cone, float((center - cone.apex) @ cone.direction))


def grown(shape: Circle | Cylinder, by_mm: float) -> Circle | Cylinder:
    """A round shape with all its outline moved outward (+) or inward (-)."""
    try:
        return shape.parallel(by_mm)
    except ValueError:
        raise DeriveError("So far inward nothing of it is left.", KEPT, "Give a smaller offset.") from None


def parallel_through(point: Array, plane: Plane) -> Plane:
    return Plane(point, plane.normal)


def perpendicular_through(point: Array, plane: Plane) -> Line:
    return Line(point, plane.normal)


def parallel_line_through(point: Array, line: Line) -> Line:
    return Line(point, line.direction)


def plane_across_line(point: Array, line: Line) -> Plane:
    return Plane(point, line.direction)


def perpendicular_to_line(point: Array, line: Line) -> Line:
    """From a point square to a line."""
    foot = drop_on_line(point, line).position
    if np.linalg.norm(foot - point) < 1e-9:
        raise DeriveError("The point lies on the line, so every line across it would do.", KEPT, "Choose another point.")
    return through_points(point, foot)


def point_of_lines(lines: Sequence[Line]) -> Point:
    """The point nearest to several lines, by least squares."""
    across = [np.eye(3) - np.outer(line.direction, line.direction) for line in lines]
    normal = np.sum(across, axis=0)
    if np.linalg.eigvalsh(normal)[0] < np.sin(PARALLEL) ** 2:
        raise DeriveError("The lines are all parallel, so no place is nearest.", KEPT, "Choose lines across one another.")
    return Point(np.linalg.solve(normal, np.sum([a @ line.point for a, line in zip(across, lines, strict=True)], axis=0)))


def plane_through_points(points: Array) -> Plane:
    """Its normal is to the side from which the points, in their order, go round counterclockwise."""
    plane = fit("plane", points).shape
    return plane if plane.normal @ _round_way(points) >= 0 else plane.flipped()


def line_through_points(points: Array) -> Line:
    """It points from the first to the last."""
    line = fit("line", points).shape
    return line.turned_like(points[-1] - points[0])


def circle_through_points(points: Array) -> Circle:
    """Its normal is to the side from which the points, in their order, go round counterclockwise."""
    return fit("circle", points).shape.turned_like(_round_way(points))


def _round_way(points: Array) -> Array:
    """The direction (3,) about which points go round in their order; where they go to and fro, the first three of them."""
    rel = points - points.mean(axis=0)
    each = cross(rel, np.roll(rel, -1, axis=0))
    way = each.sum(axis=0)
    if np.linalg.norm(way) < ROUND * np.linalg.norm(each, axis=1).sum():
        way = cross(points[1] - points[0], points[2] - points[0])
    return unit(way) if way.any() else way


def sphere_through_points(points: Array) -> Sphere:
    return fit("sphere", points).shape


ONE_RAD, ONE_SHARE, ONE_MM = np.radians(5), 0.02, 0.5  # by so much things may be off one line, or one plane, that were meant so


def common_axis(lines: Sequence[Line], places: Sequence[Array]) -> Line:
    """The axis that several have together: the line nearest to the ends of all, each as far as it reaches.

    ``places``: of each what was touched of it (m, 3). Raises DeriveError where they are not nearly in one line.
    """
    ends = np.vstack([_ends(line, there) for line, there in zip(lines, places, strict=True)])
    axis = line_through_points(ends)
    direction = axis.direction if axis.direction @ lines[0].direction > 0 else -axis.direction
    off = float(np.linalg.norm(ends - axis.point - np.outer((ends - axis.point) @ direction, direction), axis=1).max())
    _as_one(off, ends, [line.direction for line in lines], direction, "line")
    return Line(axis.point, direction)


def _ends(line: Line, there: Array) -> Array:
    along = (there - line.point) @ line.direction
    return line.point + np.outer([along.min(), along.max()], line.direction)


def common_plane(planes: Sequence[Plane], places: Sequence[Array]) -> Plane:
    """The plane that several lie in together: the one nearest to all, each as far as it reaches.

    ``places``: of each what was touched of it (m, 3). Raises DeriveError where they are not nearly in one plane.
    """
    flat = [there - np.outer(p.distance(there), p.normal) for p, there in zip(planes, places, strict=True)]
    whole = plane_through_points(np.vstack(flat))
    normal = whole.normal if whole.normal @ planes[0].normal > 0 else -whole.normal
    off = max(float(np.abs(whole.distance(points)).max()) for points in flat)
    _as_one(off, np.vstack(flat), [p.normal for p in planes], normal, "plane")
    return Plane(whole.point, normal)


def _as_one(off: float, places: Array, ways: Sequence[Array], whole: Array, what: str) -> None:
    reach = float(np.linalg.norm(np.ptp(places, axis=0)))
    lean = max(min(between(way, whole), np.pi - between(way, whole)) for way in ways)
    if off > max(ONE_SHARE * reach, ONE_MM) or lean > ONE_RAD:
        by = f"lean by up to {np.degrees(lean):.2g}° to it" if lean > ONE_RAD else f"lie up to {mm(off, '.3g')} off it"
        raise DeriveError(f"They are not in one {what}: they {by}.", KEPT, "Choose what was meant to be in one.")
