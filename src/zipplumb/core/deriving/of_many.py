"""What can be made of three features and more."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..features import axis_line, axis_of, center_point, plane_of, point_of
from ..frames import Array
from ..shapes import Point
from . import constructions as make
from .derivation import Derivation


def of_many(shapes: Sequence[Any]) -> list[Derivation]:
    found: list[Derivation] = []
    if len(shapes) == 3 and all(plane_of(s) for s in shapes):
        found.append(Derivation("corner_of_the_three_planes", "", make.meet_three_planes))
    if all(axis_of(s) is not None for s in shapes):
        found.append(Derivation("point_nearest_to_the_axes", "", lambda *s: make.point_of_lines([axis_line(x) for x in s])))
    if all(point_of(s) is not None for s in shapes):
        makers: list[tuple[str, Callable[[Array], Any]]] = [
            ("circle_through_the_centers", make.circle_through_points),
            ("plane_through_the_centers", make.plane_through_points),
            ("line_through_the_centers", make.line_through_points),
            ("middle_of_the_centers", lambda points: Point(points.mean(axis=0))),
        ]
        if len(shapes) > 3:
            makers.append(("sphere_through_the_centers", make.sphere_through_points))
        found += [Derivation(n, "", lambda *s, m=m: m(np.array([center_point(x) for x in s]))) for n, m in makers]
        found.append(
            Derivation(
                "diameter_of_the_bolt_circle",
                "mm",
                lambda *s: 2 * make.circle_through_points(np.array([center_point(x) for x in s])).radius,
            )
        )
    return found
