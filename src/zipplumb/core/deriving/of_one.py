"""What can be made of one feature."""

from __future__ import annotations

from typing import Any

from ..features import axis_of, center_point, point_of
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus
from . import constructions as make
from .derivation import Derivation, Given, wanted


def of_one(shape: Any, given: Given) -> list[Derivation]:
    found: list[Derivation] = []
    if point_of(shape) is not None and not isinstance(shape, Point):
        found.append(Derivation("center", "", lambda s: Point(center_point(s))))
    if isinstance(shape, Cylinder | Cone):
        found.append(Derivation("axis", "", axis_of))
    if isinstance(shape, Cylinder | Circle | Sphere):
        found.append(Derivation("diameter", "mm", lambda s: 2 * s.radius))
    if isinstance(shape, Circle | Ellipse | Slot | Torus):
        found.append(Derivation("line_through_the_center_square_to_it", "", lambda s: Line(s.center, s.normal)))
        found.append(Derivation("plane_it_lies_in", "", lambda s: Plane(s.center, s.normal)))
    if isinstance(shape, Slot):
        found.append(Derivation("middle_line", "", lambda s: Line(s.center, s.direction)))
        found += [Derivation(w, "mm", lambda s, w=w: getattr(s, w)) for w in ("length", "width")]
    if isinstance(shape, Ellipse):
        found.append(Derivation("long_diameter", "mm", lambda s: 2 * s.semi_major))
        found.append(Derivation("short_diameter", "mm", lambda s: 2 * s.semi_minor))
    if isinstance(shape, Torus):
        found.append(Derivation("diameter_of_the_ring", "mm", lambda s: 2 * s.major_radius))
        found.append(Derivation("diameter_of_the_tube", "mm", lambda s: 2 * s.minor_radius))
    if isinstance(shape, Cone):
        found += _of_cone(given)
    if isinstance(shape, Plane):
        found.append(Derivation("offset_plane", "", lambda s: s.offset(wanted(given.offset_mm, "an offset"))))
    if isinstance(shape, Circle | Cylinder):
        found.append(Derivation("offset_outline", "", lambda s: make.grown(s, wanted(given.offset_mm, "an offset"))))
    return found


def _of_cone(given: Given) -> list[Derivation]:
    def at_height(cone: Cone) -> Circle:
        return make.cone_circle(cone, wanted(given.height_mm, "a height above the apex"))

    def of_diameter(cone: Cone) -> Circle:
        return make.cone_circle_of_diameter(cone, wanted(given.diameter_mm, "a diameter"))

    return [
        Derivation("apex", "", lambda s: Point(s.apex)),
        Derivation("full_angle", "rad", lambda s: 2 * s.half_angle),
        Derivation("circle_at_a_height", "", at_height),
        Derivation(
            "diameter_at_a_height", "mm",
            lambda s: 2 * at_height(s).radius,
        ),
        Derivation("circle_of_a_diameter", "", of_diameter),
    ]  # fmt: skip
