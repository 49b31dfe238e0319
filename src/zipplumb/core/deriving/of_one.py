"""Constructions and dimensions of one feature."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..features import axis_of, center_point
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus
from . import constructions as make
from .derivation import Derivation, Given, Unit, wanted

FLAT = (Circle, Ellipse, Slot, Torus)


@dataclass(frozen=True)
class OfOne:
    """A construction or a size by its key, and of which shapes it is made."""

    key: str
    unit: Unit
    of: tuple[type, ...]
    make: Callable[[Any, Given], Any]


def _size(key: str, unit: Unit, of: type, field: str, times: float = 1.0) -> OfOne:
    return OfOne(key, unit, (of,), lambda s, _: times * getattr(s, field))


def _circle_at_height(cone: Cone, given: Given) -> Circle:
    return make.cone_circle(cone, wanted(given.height_mm, "a height above the apex"))


OF_ONE = (
    OfOne("center", "", (*FLAT, Sphere), lambda s, _: Point(center_point(s))),
    OfOne("axis", "", (Cylinder, Cone), lambda s, _: axis_of(s)),
    OfOne("diameter", "mm", (Cylinder, Circle, Sphere), lambda s, _: 2 * s.radius),
    OfOne("line_through_the_center_square_to_it", "", FLAT, lambda s, _: Line(s.center, s.normal)),
    OfOne("plane_it_lies_in", "", FLAT, lambda s, _: Plane(s.center, s.normal)),
    OfOne("middle_line", "", (Slot,), lambda s, _: Line(s.center, s.direction)),
    _size("length", "mm", Slot, "length"),
    _size("width", "mm", Slot, "width"),
    _size("long_diameter", "mm", Ellipse, "semi_major", 2),
    _size("short_diameter", "mm", Ellipse, "semi_minor", 2),
    _size("diameter_of_the_ring", "mm", Torus, "major_radius", 2),
    _size("diameter_of_the_tube", "mm", Torus, "minor_radius", 2),
    OfOne("apex", "", (Cone,), lambda s, _: Point(s.apex)),
    _size("full_angle", "rad", Cone, "half_angle", 2),
    OfOne("circle_at_a_height", "", (Cone,), _circle_at_height),
    OfOne("diameter_at_a_height", "mm", (Cone,), lambda s, given: 2 * _circle_at_height(s, given).radius),
    OfOne(
        "circle_of_a_diameter",
        "",
        (Cone,),
        lambda s, given: make.cone_circle_of_diameter(s, wanted(given.diameter_mm, "a diameter")),
    ),
    OfOne("offset_plane", "", (Plane,), lambda s, given: s.parallel(wanted(given.offset_mm, "an offset"))),
    OfOne("offset_outline", "", (Circle, Cylinder), lambda s, given: make.grown(s, wanted(given.offset_mm, "an offset"))),
)


def of_one(shape: Any, given: Given) -> list[Derivation]:
    return [Derivation(one.key, one.unit, lambda s, one=one: one.make(s, given)) for one in OF_ONE if isinstance(shape, one.of)]
