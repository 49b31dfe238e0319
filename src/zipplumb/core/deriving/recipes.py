"""Which constructions there are for which features, in the order they are mostly wanted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..errors import DeriveError
from ..frames import Array
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus
from . import constructions as make
from . import dimensions as size
from .distance import plane_distance
from .drawing import Drawing, angle_drawn, segment
from .features import Feature, axis_of, direction_of, plane_of, point_of, radius_of, spot_of

Unit = Literal["mm", "rad", ""]


@dataclass(frozen=True)
class Recipe:
    """``make(*shapes)`` gives a shape (unit "") or a number; ``draw(*shapes)`` shows a number.

    ``away(*shapes)``: how far away it is (mm) where it is refused for being too far.
    """

    name: str
    unit: Unit
    make: Callable[..., Any]
    draw: Callable[..., Drawing] | None = None
    away: Callable[..., float] | None = None


@dataclass(frozen=True)
class Given:
    """Numbers that some constructions need from the person."""

    offset_mm: float | None = None
    height_mm: float | None = None
    diameter_mm: float | None = None


def recipes_for(features: Sequence[Feature], given: Given) -> list[Recipe]:
    """All recipes for these features, whether they will succeed or not."""
    if len(features) == 1:
        return of_one(features[0].shape, given)
    if len(features) == 2:
        return of_two(features[0], features[1])
    return of_many([f.shape for f in features])


def _wanted(value: float | None, what: str) -> float:
    if value is None:
        raise DeriveError(f"It needs {what}.", make.KEPT, f"Type {what}.")
    return value


# ---- one ----------------------------------------------------------------------------------


def of_one(shape: Any, given: Given) -> list[Recipe]:
    recipes: list[Recipe] = []
    if point_of(shape) is not None and not isinstance(shape, Point):
        recipes.append(Recipe("Center", "", lambda s: Point(point_of(s))))
    if isinstance(shape, Cylinder | Cone):
        recipes.append(Recipe("Axis", "", axis_of))
    if isinstance(shape, Cylinder | Circle | Sphere):
        recipes.append(Recipe("Diameter", "mm", lambda s: 2 * s.radius))
    if isinstance(shape, Circle | Ellipse | Slot | Torus):
        recipes.append(Recipe("Line through the center, square to it", "", lambda s: Line(s.center, s.normal)))
        recipes.append(Recipe("Plane it lies in", "", lambda s: Plane(s.center, s.normal)))
    if isinstance(shape, Slot):
        recipes.append(Recipe("Middle line", "", lambda s: Line(s.center, s.direction)))
        recipes += [Recipe(w.capitalize(), "mm", lambda s, w=w: getattr(s, w)) for w in ("length", "width")]
    if isinstance(shape, Ellipse):
        recipes.append(Recipe("Long diameter", "mm", lambda s: 2 * s.semi_major))
        recipes.append(Recipe("Short diameter", "mm", lambda s: 2 * s.semi_minor))
    if isinstance(shape, Torus):
        recipes.append(Recipe("Diameter of the ring", "mm", lambda s: 2 * s.major_radius))
        recipes.append(Recipe("Diameter of the tube", "mm", lambda s: 2 * s.minor_radius))
    if isinstance(shape, Cone):
        recipes += _of_cone(given)
    if isinstance(shape, Plane):
        recipes.append(Recipe("Offset plane", "", lambda s: s.offset(_wanted(given.offset_mm, "an offset"))))
    if isinstance(shape, Circle | Cylinder):
        recipes.append(Recipe("Offset outline", "", lambda s: make.grown(s, _wanted(given.offset_mm, "an offset"))))
    return recipes


def _of_cone(given: Given) -> list[Recipe]:
    return [
        Recipe("Apex", "", lambda s: Point(s.apex)),
        Recipe("Full angle", "rad", lambda s: 2 * s.half_angle),
        Recipe("Circle at a height", "", lambda s: make.cone_circle(s, _wanted(given.height_mm, "a height above the apex"))),
        Recipe(
            "Diameter at a height", "mm",
            lambda s: 2 * make.cone_circle(s, _wanted(given.height_mm, "a height above the apex")).radius,
        ),
        Recipe("Circle of a diameter", "", lambda s: make.cone_circle_of_diameter(s, _wanted(given.diameter_mm, "a diameter"))),
    ]  # fmt: skip


# ---- two ----------------------------------------------------------------------------------


def of_two(first: Feature, second: Feature) -> list[Recipe]:
    a, b = first.shape, second.shape
    (p1, a1, f1), (p2, a2, f2) = ((point_of(s) is not None, axis_of(s) is not None, plane_of(s) is not None) for s in (a, b))
    if p1 and p2:
        recipes = _points()
    elif (p1 and f2) or (f1 and p2):
        recipes = _point_plane(a if p1 else b, swap=f1)
    elif (p1 and a2) or (a1 and p2):
        recipes = _point_axis(swap=a1)
    elif a1 and a2:
        recipes = _axes(a, b, second)
    elif (a1 and f2) or (f1 and a2):
        recipes = _axis_plane(a if a1 else b, swap=f1)
    elif f1 and f2:
        recipes = _planes(second)
    else:
        recipes = []
    if not (f1 and f2):
        recipes += _clearances(a, b)
    if direction_of(a) is not None and direction_of(b) is not None:
        recipes += _angles()
    return recipes


def _order(function: Callable, swap: bool) -> Callable:
    return (lambda a, b: function(b, a)) if swap else function


def _ordered(recipes: list[Recipe], swap: bool) -> list[Recipe]:
    return [Recipe(r.name, r.unit, _order(r.make, swap), r.draw and _order(r.draw, swap)) for r in recipes]


def _between_points(a: Any, b: Any) -> Drawing:
    return segment(point_of(a), point_of(b))


def _points() -> list[Recipe]:
    def steps(k: int) -> Callable[..., Drawing]:
        def draw(a: Any, b: Any) -> Drawing:
            step = np.zeros(3)
            step[k] = (point_of(b) - point_of(a))[k]
            return segment(point_of(a), point_of(a) + step)

        return draw

    def shadow(k: int) -> Callable[..., Drawing]:
        def draw(a: Any, b: Any) -> Drawing:
            end = point_of(b).copy()
            end[k] = point_of(a)[k]
            return segment(point_of(a), end)

        return draw

    return [
        Recipe("Distance of the middles", "mm", lambda a, b: size.point_to_point(point_of(a), point_of(b)), _between_points),
        *(
            Recipe(f"Along {axis}", "mm", lambda a, b, k=k: size.along_axes(point_of(a), point_of(b))[k], steps(k))
            for k, axis in enumerate(size.AXES)
        ),
        *(
            Recipe(f"In the plane {plane}", "mm", lambda a, b, k=k: size.in_planes(point_of(a), point_of(b))[k], shadow(k))
            for k, plane in enumerate(("YZ", "XZ", "XY"))
        ),
        Recipe("Line through the centers", "", lambda a, b: make.through_points(point_of(a), point_of(b))),
        Recipe("Middle of the centers", "", lambda a, b: make.middle_point(point_of(a), point_of(b))),
        Recipe("Plane half way between them", "", lambda a, b: make.plane_between_points(point_of(a), point_of(b))),
    ]


def _point_plane(point: Any, swap: bool) -> list[Recipe]:
    def perpendicular(a: Any, b: Any) -> Drawing:
        return segment(point_of(a), make.drop_on_plane(point_of(a), b).position)

    recipes = [
        Recipe("Perpendicular distance", "mm", lambda a, b: size.point_to_plane(point_of(a), b), perpendicular),
        Recipe("Foot on the plane", "", lambda a, b: make.drop_on_plane(point_of(a), b)),
        Recipe("Parallel plane through it", "", lambda a, b: make.parallel_through(point_of(a), b)),
        Recipe("Perpendicular line through it", "", lambda a, b: make.perpendicular_through(point_of(a), b)),
    ]
    if isinstance(point, Circle):
        recipes.append(Recipe("Outline on the plane", "", make.circle_on_plane))
    if isinstance(point, Sphere):
        recipes.append(Recipe("Circle in which the plane cuts it", "", make.cut_sphere))
    return _ordered(recipes, swap)


def _point_axis(swap: bool) -> list[Recipe]:
    def perpendicular(a: Any, b: Any) -> Drawing:
        return segment(point_of(a), make.drop_on_line(point_of(a), axis_of(b)).position)

    recipes = [
        Recipe("Perpendicular distance", "mm", lambda a, b: size.point_to_line(point_of(a), axis_of(b)), perpendicular),
        Recipe("Foot on the axis", "", lambda a, b: make.drop_on_line(point_of(a), axis_of(b))),
        Recipe("Parallel line through it", "", lambda a, b: make.parallel_line_through(point_of(a), axis_of(b))),
        Recipe("Perpendicular line through it", "", lambda a, b: make.perpendicular_to_line(point_of(a), axis_of(b))),
        Recipe("Plane through it, across the axis", "", lambda a, b: make.plane_across_line(point_of(a), axis_of(b))),
        Recipe("Plane through both", "", lambda a, b: make.plane_through_point_and_line(point_of(a), axis_of(b))),
    ]
    return _ordered(recipes, swap)


def _axes(a: Any, b: Any, second: Feature) -> list[Recipe]:
    def nearest(a: Any, b: Any) -> Drawing:
        try:
            return segment(*make.nearest_points(axis_of(a), axis_of(b)))
        except DeriveError:
            return segment(axis_of(b).point, make.drop_on_line(axis_of(b).point, axis_of(a)).position)

    recipes = [
        Recipe("Least distance of the axes", "mm", lambda a, b: size.line_to_line(axis_of(a), axis_of(b)), nearest),
        Recipe("Width", "mm", lambda a, b: size.width_of_parallels(axis_of(a), axis_of(b)), nearest),
    ]
    if isinstance(a, Line) and isinstance(b, Line):
        recipes += _over_the_reach(second)
    return recipes + [
        Recipe("Nearest place of the two", "", lambda a, b: make.meet_lines(axis_of(a), axis_of(b))),
        Recipe("Middle line", "", lambda a, b: make.middle_line(axis_of(a), axis_of(b))),
        Recipe("Bisector", "", lambda a, b: make.bisector(axis_of(a), axis_of(b))),
        Recipe("Bisector of the wider angle", "", lambda a, b: make.bisector(axis_of(a), axis_of(b), wide=True)),
        Recipe("Plane through both", "", lambda a, b: make.plane_through_lines(axis_of(a), axis_of(b))),
    ]


def _axis_plane(shape: Any, swap: bool) -> list[Recipe]:
    def upright(a: Any, b: Any) -> Drawing:
        return segment(axis_of(a).point, make.drop_on_plane(axis_of(a).point, b).position)

    recipes = [
        Recipe("Where it goes through", "", lambda a, b: make.pierce(axis_of(a), b)),
        Recipe("Distance", "mm", lambda a, b: size.line_to_plane(axis_of(a), b), upright),
        Recipe("Line seen on the plane", "", lambda a, b: make.line_on_plane(axis_of(a), b)),
        Recipe("Plane through it, square to the plane", "", lambda a, b: make.upright_plane(axis_of(a), b)),
    ]
    if isinstance(shape, Cylinder):
        recipes.append(Recipe("Outline on the plane", "", make.cut_cylinder))
    if isinstance(shape, Cone):
        recipes.append(Recipe("Circle at the plane", "", make.cone_circle_at_plane))
        recipes.append(Recipe("Diameter at the plane", "mm", lambda a, b: 2 * make.cone_circle_at_plane(a, b).radius))
    return _ordered(recipes, swap)


def _planes(second: Feature) -> list[Recipe]:
    def perpendicular(a: Plane, b: Plane) -> Drawing:
        found = plane_distance(a, b)
        return segment(found.foot, found.middle)

    return [
        Recipe("Perpendicular distance", "mm", lambda a, b: plane_distance(a, b).perpendicular_mm, perpendicular),
        Recipe(
            "Distance of the middles", "mm",
            lambda a, b: plane_distance(a, b).middles_mm, lambda a, b: segment(a.point, b.point),
        ),
        Recipe("Width", "mm", size.width_of_parallels, perpendicular),
        *_over_the_reach(second),
        Recipe("Line in which they meet", "", make.meet_planes, away=make.meeting_distance),
        Recipe("Middle plane", "", make.middle_plane),
        Recipe("Bisector of the normals", "", make.bisector_plane),
        Recipe("Bisector of the other angle", "", lambda a, b: make.bisector_plane(a, b, other=True)),
    ]  # fmt: skip


def _over_the_reach(second: Feature) -> list[Recipe]:
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
        Recipe("Least distance", "mm", at(np.min)),
        Recipe("Greatest distance", "mm", at(np.max)),
        Recipe("Out of parallel", "rad", size.lean_of),
        Recipe("Out of parallel, over the reach", "mm", at(np.ptp)),
    ]


def _clearances(a: Any, b: Any) -> list[Recipe]:
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
                    abs(float(other.distance(point[None])[0])) if plane_of(other) else size.point_to_line(point, axis_of(other))
                )
        if plane_of(a) is not None or plane_of(b) is not None:
            axis, plane = (a, b) if plane_of(b) is not None else (b, a)
            return abs(size.line_to_plane(axis_of(axis), plane))
        return size.line_to_line(axis_of(a), axis_of(b))

    def draw(a: Any, b: Any) -> Drawing:
        return segment(spot_of(a), spot_of(b))

    def edges(a: Any, b: Any) -> float:
        return (radius_of(a) or 0.0) + (radius_of(b) or 0.0)

    if isinstance(a, Cone) or isinstance(b, Cone):
        return []
    return [
        Recipe("Least distance of the edges", "mm", lambda a, b: centers(a, b) - edges(a, b), draw),
        Recipe("Greatest distance of the edges", "mm", lambda a, b: centers(a, b) + edges(a, b), draw),
    ]


def _angles() -> list[Recipe]:
    def between(a: Any, b: Any) -> float:
        if (axis_of(a) is None) != (axis_of(b) is None):
            axis, flat = (a, b) if axis_of(a) is not None else (b, a)
            return size.line_to_plane_angle(axis_of(axis), Plane(np.zeros(3), direction_of(flat)))
        return size.angle_in_space(direction_of(a), direction_of(b))

    return [
        Recipe("Angle", "rad", between, angle_drawn),
        Recipe("Supplement", "rad", lambda a, b: np.pi - between(a, b), angle_drawn),
        *(
            Recipe(
                f"Angle seen along {axis}", "rad",
                lambda a, b, k=k: size.angle_along(direction_of(a), direction_of(b), k), angle_drawn,
            )
            for k, axis in enumerate(size.AXES)
        ),
    ]  # fmt: skip


# ---- three and more -----------------------------------------------------------------------


def of_many(shapes: Sequence[Any]) -> list[Recipe]:
    recipes: list[Recipe] = []
    if len(shapes) == 3 and all(plane_of(s) for s in shapes):
        recipes.append(Recipe("Corner of the three planes", "", make.meet_three_planes))
    if all(axis_of(s) is not None for s in shapes):
        recipes.append(Recipe("Point nearest to the axes", "", lambda *s: make.point_of_lines([axis_of(x) for x in s])))
    if all(point_of(s) is not None for s in shapes):
        makers: list[tuple[str, Callable[[Array], Any]]] = [
            ("Circle through the centers", make.circle_through_points),
            ("Plane through the centers", make.plane_through_points),
            ("Line through the centers", make.line_through_points),
            ("Middle of the centers", lambda points: Point(points.mean(axis=0))),
        ]
        if len(shapes) > 3:
            makers.append(("Sphere through the centers", make.sphere_through_points))
        recipes += [Recipe(n, "", lambda *s, m=m: m(np.array([point_of(x) for x in s]))) for n, m in makers]
        recipes.append(
            Recipe(
                "Diameter of the bolt circle",
                "mm",
                lambda *s: 2 * make.circle_through_points(np.array([point_of(x) for x in s])).radius,
            )
        )
    return recipes
