"""Constructions and dimensions of two features: points, axes and planes with each other."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..errors import DeriveError
from ..features import (
    Feature,
    axis_line,
    axis_of,
    center_point,
    direction_of,
    own_direction,
    plane_of,
    point_of,
    radius_of,
    spot_of,
)
from ..frames import Array, cross
from ..records import changed
from ..shapes import Circle, Cone, Cylinder, Line, Plane, Sphere
from . import constructions as make
from . import dimensions as size
from .derivation import Derivation, Given
from .distance import plane_distance
from .drawing import Drawing, angle_drawn, segment
from .of_centers import of_centers, of_points
from .of_many import in_common


def of_two(first: Feature, second: Feature, given: Given) -> list[Derivation]:
    a, b = first.shape, second.shape
    (p1, a1, f1), (p2, a2, f2) = ((point_of(s) is not None, axis_of(s) is not None, plane_of(s) is not None) for s in (a, b))
    if p1 and p2:
        found = of_points(given)
    elif (p1 and f2) or (f1 and p2):
        found = _point_plane(a if p1 else b, swap=f1)
    elif (p1 and a2) or (a1 and p2):
        found = _point_axis(swap=a1) + of_centers((first, second), given)
    elif a1 and a2:
        found = _axes(a, b, first, second) + of_centers((first, second), given)
    elif (a1 and f2) or (f1 and a2):
        found = _axis_plane(a if a1 else b, swap=f1)
    elif f1 and f2:
        found = _planes(first, second)
    else:
        found = []
    if not (f1 and f2):
        found += _clearances(a, b, (first.extent, second.extent))
    if direction_of(a) is not None and direction_of(b) is not None:
        found += _angles()
    return found


def _order(function: Callable, swap: bool) -> Callable:
    return (lambda a, b: function(b, a)) if swap else function


def _ordered(found: list[Derivation], swap: bool) -> list[Derivation]:
    def order(function: Callable | None) -> Callable | None:
        return function and _order(function, swap)

    return [
        changed(r, make=_order(r.make, swap), draw=order(r.draw), away=order(r.away), offset=order(r.offset)) for r in found
    ]


def _across(a: Any, b: Any) -> Array:
    """The offset of an angle from a fold: as long as the sine of the angle of two directions."""
    return cross(own_direction(a), own_direction(b))


def _point_plane(point: Any, swap: bool) -> list[Derivation]:
    def perpendicular(a: Any, b: Any) -> Drawing:
        return segment(center_point(a), make.drop_on_plane(center_point(a), b).position)

    found = [
        Derivation("perpendicular_distance", "mm", lambda a, b: size.point_to_plane(center_point(a), b), perpendicular),
        Derivation("foot_on_the_plane", "", lambda a, b: make.drop_on_plane(center_point(a), b)),
        Derivation("parallel_plane_through_it", "", lambda a, b: make.parallel_through(center_point(a), b)),
        Derivation("perpendicular_line_through_it", "", lambda a, b: make.perpendicular_through(center_point(a), b)),
    ]
    if isinstance(point, Circle):
        found.append(Derivation("outline_on_the_plane", "", make.circle_on_plane))
    if isinstance(point, Sphere):
        found.append(Derivation("circle_in_which_the_plane_cuts_it", "", make.cut_sphere))
    return _ordered(found, swap)


def _point_axis(swap: bool) -> list[Derivation]:
    def perpendicular(a: Any, b: Any) -> Drawing:
        return segment(center_point(a), make.drop_on_line(center_point(a), axis_line(b)).position)

    def distance(a: Any, b: Any) -> float:
        return size.point_to_line(center_point(a), axis_line(b))

    def offset(a: Any, b: Any) -> Array:
        axis = axis_line(b)
        return cross(center_point(a) - axis.point, axis.direction)

    found = [
        Derivation("perpendicular_distance", "mm", distance, perpendicular, offset=offset),
        Derivation("foot_on_the_axis", "", lambda a, b: make.drop_on_line(center_point(a), axis_line(b))),
        Derivation("parallel_line_through_it", "", lambda a, b: make.parallel_line_through(center_point(a), axis_line(b))),
        Derivation("perpendicular_line_through_it", "", lambda a, b: make.perpendicular_to_line(center_point(a), axis_line(b))),
        Derivation("plane_through_it_across_the_axis", "", lambda a, b: make.plane_across_line(center_point(a), axis_line(b))),
        Derivation("plane_through_both", "", lambda a, b: make.plane_through_point_and_line(center_point(a), axis_line(b))),
    ]
    return _ordered(found, swap)


def _axes(a: Any, b: Any, first: Feature, second: Feature) -> list[Derivation]:
    one, other = first.extent, second.extent

    def across(a: Any, b: Any) -> Drawing:
        return segment(axis_line(b).point, make.drop_on_line(axis_line(b).point, axis_line(a)).position)

    def nearest(a: Any, b: Any) -> Drawing:
        if one is not None and other is not None:
            return segment(*make.nearest_within(axis_line(a), axis_line(b), one, other))
        parallel = size.lean_of(axis_line(a), axis_line(b)) < size.NEARLY_PARALLEL
        return across(a, b) if parallel else segment(*make.nearest_points(axis_line(a), axis_line(b)))

    def least(a: Any, b: Any) -> float:
        return size.line_to_line(axis_line(a), axis_line(b), (one, other))

    found = [
        Derivation("width", "mm", lambda a, b: size.width_of_parallels(axis_line(a), axis_line(b)), across),
        Derivation("least_distance_of_the_axes", "mm", least, nearest),
    ]
    if size.lean_of(axis_line(a), axis_line(b)) > size.NEARLY_PARALLEL:
        found.reverse()
    if isinstance(a, Line) and isinstance(b, Line):
        found += _over_the_reach(second)
    return found + [
        Derivation("nearest_place_of_the_two", "", lambda a, b: make.meet_lines(axis_line(a), axis_line(b))),
        *in_common((first, second)),
        Derivation("middle_line", "", lambda a, b: make.middle_line(axis_line(a), axis_line(b))),
        Derivation("bisector", "", lambda a, b: make.bisector(axis_line(a), axis_line(b))),
        Derivation("bisector_of_the_wider_angle", "", lambda a, b: make.bisector(axis_line(a), axis_line(b), wide=True)),
        Derivation("plane_through_both", "", lambda a, b: make.plane_through_lines(axis_line(a), axis_line(b))),
    ]


def _axis_plane(shape: Any, swap: bool) -> list[Derivation]:
    def upright(a: Any, b: Any) -> Drawing:
        return segment(axis_line(a).point, make.drop_on_plane(axis_line(a).point, b).position)

    found = [
        Derivation("where_it_goes_through", "", lambda a, b: make.pierce(axis_line(a), b)),
        Derivation("distance", "mm", lambda a, b: size.line_to_plane(axis_line(a), b), upright),
        Derivation("line_seen_on_the_plane", "", lambda a, b: make.line_on_plane(axis_line(a), b)),
        Derivation("plane_through_it_square_to_the_plane", "", lambda a, b: make.upright_plane(axis_line(a), b)),
    ]
    if isinstance(shape, Cylinder):
        found.append(Derivation("outline_on_the_plane", "", make.cut_cylinder))
    if isinstance(shape, Cone):
        found.append(Derivation("circle_at_the_plane", "", make.cone_circle_at_plane))
        found.append(Derivation("diameter_at_the_plane", "mm", lambda a, b: 2 * make.cone_circle_at_plane(a, b).radius))
    return _ordered(found, swap)


def _planes(first: Feature, second: Feature) -> list[Derivation]:
    def perpendicular(a: Plane, b: Plane) -> Drawing:
        found = plane_distance(a, b)
        return segment(found.foot, found.middle)

    def step(k: int) -> Callable[..., Drawing]:
        def draw(a: Plane, b: Plane) -> Drawing:
            found = plane_distance(a, b)
            return segment(found.middle - np.eye(3)[k] * found.vector[k], found.middle)

        return draw

    return [
        Derivation("perpendicular_distance", "mm", lambda a, b: plane_distance(a, b).perpendicular_mm, perpendicular),
        *(
            Derivation(
                f"along_{axis.lower()}", "mm", lambda a, b, k=k: abs(float(plane_distance(a, b).vector[k])), step(k),
                in_axes=True,
            )
            for k, axis in enumerate(size.AXES)
        ),
        Derivation(
            "distance_of_the_middles", "mm",
            lambda a, b: plane_distance(a, b).middles_mm, lambda a, b: segment(a.point, b.point),
        ),
        Derivation("width", "mm", size.width_of_parallels, perpendicular),
        *_over_the_reach(second),
        Derivation("line_in_which_they_meet", "", make.meet_planes, away=make.meeting_distance),
        Derivation("middle_plane", "", make.middle_plane),
        *in_common((first, second)),
        Derivation("bisector_of_the_normals", "", make.bisector_plane),
        Derivation("bisector_of_the_other_angle", "", lambda a, b: make.bisector_plane(a, b, other=True)),
    ]  # fmt: skip


def _over_the_reach(second: Feature) -> list[Derivation]:
    """Least and greatest distance over what was touched of the second, and how parallel they are."""
    extent = second.extent

    def at(pick: Callable[[Array], Any]) -> Callable[..., float]:
        def value(a: Any, b: Any) -> float:
            if extent is None:
                raise DeriveError("How far it reaches is not known.", make.KEPT, "Measure it, then ask again.")
            size.width_of_parallels(a, b)  # refuses what leans too much
            return float(pick(size.widths(a, b, extent)))

        return value

    return [
        Derivation("least_distance", "mm", at(np.min)),
        Derivation("greatest_distance", "mm", at(np.max)),
        Derivation("out_of_parallel", "rad", size.out_of_parallel, offset=_across),
        Derivation("out_of_parallel_over_the_reach", "mm", at(np.ptp)),
    ]


def _clearances(a: Any, b: Any, reach: size.Reach) -> list[Derivation]:
    """From edge to edge of round things: between, and over all."""
    if (radius_of(a) or 0.0) + (radius_of(b) or 0.0) == 0.0:
        return []

    def centers(a: Any, b: Any) -> float:
        for one, other in ((a, b), (b, a)):
            point = point_of(one)
            if point is not None:
                there = point_of(other)
                if there is not None:
                    return size.point_to_point(point, there)
                return (
                    abs(float(other.distance(point[None])[0]))
                    if plane_of(other)
                    else size.point_to_line(point, axis_line(other))
                )
        if plane_of(a) is not None or plane_of(b) is not None:
            axis, plane = (a, b) if plane_of(b) is not None else (b, a)
            return abs(size.line_to_plane(axis_line(axis), plane))
        return size.line_to_line(axis_line(a), axis_line(b), reach)

    def draw(a: Any, b: Any) -> Drawing:
        return segment(spot_of(a), spot_of(b))

    def edges(a: Any, b: Any) -> float:
        return (radius_of(a) or 0.0) + (radius_of(b) or 0.0)

    if isinstance(a, Cone) or isinstance(b, Cone):
        return []
    return [
        Derivation("least_distance_of_the_edges", "mm", lambda a, b: centers(a, b) - edges(a, b), draw),
        Derivation("greatest_distance_of_the_edges", "mm", lambda a, b: centers(a, b) + edges(a, b), draw),
    ]


def _angles() -> list[Derivation]:
    def between(a: Any, b: Any) -> float:
        if (axis_of(a) is None) != (axis_of(b) is None):
            axis, flat = (a, b) if axis_of(a) is not None else (b, a)
            return size.line_to_plane_angle(axis_line(axis), Plane(np.zeros(3), own_direction(flat)))
        return size.angle_in_space(own_direction(a), own_direction(b))

    return [
        Derivation("angle", "rad", between, angle_drawn, offset=_across),
        Derivation("supplement", "rad", lambda a, b: np.pi - between(a, b), angle_drawn, offset=_across),
        *(
            Derivation(
                f"angle_seen_along_{axis.lower()}", "rad",
                lambda a, b, k=k: size.angle_along(own_direction(a), own_direction(b), k), angle_drawn, in_axes=True,
            )
            for k, axis in enumerate(size.AXES)
        ),
    ]  # fmt: skip
