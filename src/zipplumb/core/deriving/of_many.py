"""Constructions and dimensions of three or more features."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..features import Feature, axis_line, axis_of, center_point, plane_of, point_of, spot_of
from ..frames import Array
from ..shapes import Point
from . import constructions as make
from .derivation import Derivation


def of_many(features: Sequence[Feature]) -> list[Derivation]:
    shapes = [f.shape for f in features]
    found = in_common(features)
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


def in_common(features: Sequence[Feature]) -> list[Derivation]:
    """What several axes, or planes, make together where they are meant to be one (a common datum of ISO 5459)."""
    places = [f.extent for f in features]

    def reach(shapes: Sequence[Any]) -> list[Array]:
        """Of each what was touched; of nominals, which reach nowhere, where they are."""
        spots = np.array([spot_of(s) for s in shapes])
        return [spots if there is None else there for there in places]

    if all(axis_of(f.shape) is not None for f in features):
        return [Derivation("common_axis", "", lambda *s: make.common_axis([axis_line(x) for x in s], reach(s)))]
    if all(plane_of(f.shape) is not None for f in features):
        return [Derivation("common_plane", "", lambda *s: make.common_plane(s, reach(s)))]
    return []
