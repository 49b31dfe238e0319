"""Everything that can be made of some features, each with its value, uncertainty and drawing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..errors import PlumbError
from ..frames import Array
from ..shapes import Cone, Cylinder, Line, Plane
from . import constructions as make
from . import dimensions as size
from .distance import plane_distance
from .features import Feature, axis_of, direction_of, plane_of, point_of, propagate


@dataclass(frozen=True, eq=False)
class Possible:
    """One thing that can be made.

    Attributes
    ----------
    name : what it is, in words
    unit : "mm" or "rad" for a value, "" for a shape
    value, u : the value and its standard uncertainty; NaN for a shape
    shape : the made shape, or None for a value
    position_covariance : (3, 3) of a made shape's point, mm²
    draw : segments, (2, 3) each, that show it
    why_not : why it cannot be made of these; then there is nothing else
    """

    name: str
    unit: Literal["mm", "rad", ""] = ""
    value: float = float("nan")
    u: float = float("nan")
    shape: Any = None
    position_covariance: Array | None = None
    draw: tuple[Array, ...] = ()
    why_not: str = ""


Recipe = tuple[str, Literal["mm", "rad", ""], Callable[..., Any], Callable[..., tuple[Array, ...]] | None]


def possible(features: Sequence[Feature]) -> list[Possible]:
    """All that can be made of one, two, three or more features, in the order they are mostly wanted."""
    return [_made(recipe, features) for recipe in _recipes([f.shape for f in features])]


def _made(recipe: Recipe, features: Sequence[Feature]) -> Possible:
    name, unit, function, draw = recipe
    try:
        found = function(*(f.shape for f in features))
        segments = draw(*(f.shape for f in features)) if draw else ()
        if unit:
            values, covariance = propagate(function, features)
            return Possible(name, unit, float(values[0]), float(np.sqrt(max(covariance[0, 0], 0.0))), draw=segments)
        _, covariance = propagate(lambda *shapes: _place(function(*shapes)), features)
        return Possible(name, shape=found, position_covariance=covariance, draw=segments)
    except PlumbError as error:
        return Possible(name, unit, why_not=str(error))


def _place(shape: Any) -> Array:
    point = point_of(shape)
    return point if point is not None else shape.point


def _recipes(shapes: Sequence[Any]) -> list[Recipe]:
    points = [point_of(s) for s in shapes]
    if len(shapes) == 1:
        return _of_one(shapes[0])
    if len(shapes) == 2:
        return _of_two(*shapes)
    recipes: list[Recipe] = []
    if len(shapes) == 3 and all(plane_of(s) for s in shapes):
        recipes.append(("Corner of the three planes", "", make.meet_three_planes, None))
    if all(p is not None for p in points):
        for word, maker in (
            ("Circle through the centers", make.circle_through_points),
            ("Plane through the centers", make.plane_through_points),
            ("Line through the centers", make.line_through_points),
        ):
            recipes.append((word, "", lambda *s, m=maker: m(np.array([point_of(x) for x in s])), None))
    return recipes


def _of_one(shape: Any) -> list[Recipe]:
    if isinstance(shape, Cone):
        return [
            ("Apex", "", lambda s: make.Point(s.apex), None),
            ("Axis", "", axis_of, None),
            ("Full angle", "rad", lambda s: 2 * s.half_angle, None),
        ]
    if isinstance(shape, Cylinder):
        return [("Axis", "", axis_of, None), ("Diameter", "mm", lambda s: 2 * s.radius, None)]
    if (point_of(shape)) is not None:
        return [("Center", "", lambda s: make.Point(point_of(s)), None)]
    return []


def _of_two(first: Any, second: Any) -> list[Recipe]:
    roles = [(point_of(s) is not None, axis_of(s) is not None, plane_of(s) is not None) for s in (first, second)]
    (p1, a1, f1), (p2, a2, f2) = roles
    if p1 and p2:
        recipes = _points()
    elif (p1 and f2) or (f1 and p2):
        recipes = _point_plane(swap=f1)
    elif (p1 and a2) or (a1 and p2):
        recipes = _point_axis(swap=a1)
    elif a1 and a2:
        recipes = _axes()
    elif (a1 and f2) or (f1 and a2):
        recipes = _axis_plane(first if a1 else second, swap=f1)
    elif f1 and f2:
        recipes = _planes()
    else:
        recipes = []
    if direction_of(first) is not None and direction_of(second) is not None and not (p1 and p2):
        recipes += _angles()
    return recipes


def _order(function: Callable, swap: bool) -> Callable:
    return (lambda a, b: function(b, a)) if swap else function


def _segment(a: Array, b: Array) -> tuple[Array, ...]:
    return (np.array([a, b]),)


def _points() -> list[Recipe]:
    recipes: list[Recipe] = [
        (
            "Distance of the middles", "mm",
            lambda a, b: size.point_to_point(point_of(a), point_of(b)),
            lambda a, b: _segment(point_of(a), point_of(b)),
        ),
    ]  # fmt: skip
    for k, axis in enumerate(size.AXES):
        recipes.append((f"Along {axis}", "mm", lambda a, b, k=k: size.along_axes(point_of(a), point_of(b))[k], None))
    for k, plane in enumerate(("YZ", "XZ", "XY")):
        recipes.append((f"In the plane {plane}", "mm", lambda a, b, k=k: size.in_planes(point_of(a), point_of(b))[k], None))
    recipes.append(("Line through the centers", "", lambda a, b: make.through_points(point_of(a), point_of(b)), None))
    recipes.append(("Middle of the centers", "", lambda a, b: make.middle_point(point_of(a), point_of(b)), None))
    return recipes


def _point_plane(swap: bool) -> list[Recipe]:
    def drawn(a, b):
        return _segment(point_of(a), make.drop_on_plane(point_of(a), b).position)

    return [
        ("Perpendicular distance", "mm", _order(lambda a, b: size.point_to_plane(point_of(a), b), swap), _order(drawn, swap)),
        ("Foot on the plane", "", _order(lambda a, b: make.drop_on_plane(point_of(a), b), swap), None),
        ("Parallel plane through it", "", _order(lambda a, b: make.parallel_through(point_of(a), b), swap), None),
        ("Perpendicular line through it", "", _order(lambda a, b: make.perpendicular_through(point_of(a), b), swap), None),
    ]


def _point_axis(swap: bool) -> list[Recipe]:
    def drawn(a, b):
        return _segment(point_of(a), make.drop_on_line(point_of(a), axis_of(b)).position)

    def apart(a, b):
        return size.point_to_line(point_of(a), axis_of(b))

    return [
        ("Perpendicular distance", "mm", _order(apart, swap), _order(drawn, swap)),
        ("Foot on the axis", "", _order(lambda a, b: make.drop_on_line(point_of(a), axis_of(b)), swap), None),
    ]  # fmt: skip


def _axes() -> list[Recipe]:
    return [
        ("Least distance", "mm", lambda a, b: size.line_to_line(axis_of(a), axis_of(b)), None),
        ("Nearest place of the two", "", lambda a, b: make.meet_lines(axis_of(a), axis_of(b)), None),
        ("Middle line", "", lambda a, b: make.middle_line(axis_of(a), axis_of(b)), None),
    ]


def _axis_plane(shape: Any, swap: bool) -> list[Recipe]:
    recipes: list[Recipe] = [
        ("Where it goes through", "", _order(lambda a, b: make.pierce(axis_of(a), b), swap), None),
        ("Distance", "mm", _order(lambda a, b: size.line_to_plane(axis_of(a), b), swap), None),
    ]
    if isinstance(shape, Cylinder):
        recipes.append(("Outline on the plane", "", _order(make.cut_cylinder, swap), None))
    return recipes


def _between_middles(a: Plane, b: Plane) -> tuple[Array, ...]:
    return _segment(a.point, b.point)


def _planes() -> list[Recipe]:
    def drawn(a: Plane, b: Plane):
        found = plane_distance(a, b)
        return _segment(found.foot, found.middle)

    return [
        ("Perpendicular distance", "mm", lambda a, b: plane_distance(a, b).perpendicular_mm, drawn),
        (
            "Distance of the middles",
            "mm",
            lambda a, b: plane_distance(a, b).middles_mm,
            lambda a, b: _segment(a.point, b.point),
        ),
        ("Line in which they meet", "", make.meet_planes, None),
        ("Middle plane", "", make.middle_plane, None),
    ]


def _angles() -> list[Recipe]:
    def between(a, b):
        if isinstance(axis_of(a), Line) != isinstance(axis_of(b), Line):
            axis, plane = (a, b) if axis_of(a) is not None else (b, a)
            return size.line_to_plane_angle(axis_of(axis), make.Plane(np.zeros(3), direction_of(plane)))
        return size.angle_in_space(direction_of(a), direction_of(b))

    recipes: list[Recipe] = [
        ("Angle", "rad", between, None),
        ("Supplement", "rad", lambda a, b: np.pi - between(a, b), None),
    ]
    for k, axis in enumerate(size.AXES):
        recipes.append(
            (f"Angle seen along {axis}", "rad", lambda a, b, k=k: size.angle_along(direction_of(a), direction_of(b), k), None)
        )
    return recipes
