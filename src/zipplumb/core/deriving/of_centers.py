"""Constructions and dimensions of centers: of points, holes and balls, and of bores at one height.

A bore has a center at any height. Bores that are about parallel are taken at one height, in the middle of what was touched of
them, as a drawing means the distance of two holes; others each in its own middle; and where a plane was chosen with them, where
their axes go through that.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..features import Feature, axis_line, center_point, plane_of, point_of, spot_of
from ..frames import Array, unit
from ..records import changed
from ..shapes import Cylinder, Plane, Point
from . import constructions as make
from . import dimensions as size
from .derivation import Derivation, Given, wanted
from .drawing import Drawing, segment

Centers = Callable[..., list[Array]]
IN_THE_MIDDLE, IN_THE_PLANE = "bores in the middle of what was touched", "bores where they go through the plane"


def of_centers(features: Sequence[Feature], given: Given) -> list[Derivation]:
    """Constructions and dimensions of the centers of all features; none if one has no center. One plane among them says
    where the bores are taken."""
    shapes = [f.shape for f in features]
    if all(point_of(s) is not None for s in shapes):
        return [] if len(shapes) < 3 else _of_many(lambda *s: [center_point(x) for x in s], len(shapes))
    flat = [k for k, s in enumerate(shapes) if plane_of(s) is not None]
    round_ = [k for k in range(len(shapes)) if k not in flat]
    bores = [k for k in round_ if _is_bore(shapes[k])]
    if len(flat) > 1 or len(round_) < 2 or not bores or any(point_of(shapes[k]) is None for k in round_ if k not in bores):
        return []
    if flat:

        def centers(*s: Any) -> list[Array]:
            return [_through(s[k], s[flat[0]].as_plane) for k in round_]
    else:
        heights = _heights(features, bores)

        def centers(*s: Any) -> list[Array]:
            return [center_point(x) if plane is None else _through(x, plane) for x, plane in zip(s, heights, strict=True)]

    found = _of_two(centers, given) if len(round_) == 2 else _of_many(centers, len(round_))
    return [changed(each, at=IN_THE_PLANE if flat else IN_THE_MIDDLE) for each in found]


def _is_bore(shape: Any) -> bool:
    return isinstance(shape, Cylinder)


def _heights(features: Sequence[Feature], bores: Sequence[int]) -> list[Plane | None]:
    """For each bore the plane across it in which its center is taken: one for all that are about parallel, as a drawing has
    them, else the middle of each; None for what has a center."""
    middles = {k: _middle(features[k]) for k in bores}
    first = axis_line(features[bores[0]].shape)
    ways = [axis_line(features[k].shape) for k in bores]
    if all(size.lean_of(first, way) < size.NEARLY_PARALLEL for way in ways):
        across = unit(np.sum([np.sign(way.direction @ first.direction) * way.direction for way in ways], axis=0))
        planes = dict.fromkeys(bores, Plane(np.mean(list(middles.values()), axis=0), across))
    else:
        planes = {k: Plane(middles[k], way.direction) for k, way in zip(bores, ways, strict=True)}
    return [planes.get(k) for k in range(len(features))]


def _middle(feature: Feature) -> Array:
    """A place in the middle of what was touched, or where the shape is given."""
    axis = axis_line(feature.shape)
    if feature.extent is None:
        return spot_of(feature.shape)
    along = (feature.extent - axis.point) @ axis.direction
    return np.asarray(axis.point + (along.min() + along.max()) / 2 * axis.direction)


def _through(shape: Any, plane: Any) -> Array:
    """Its center; of a bore where the axis goes through a plane. Raises DeriveError where it runs along that."""
    if point_of(shape) is not None:
        return center_point(shape)
    return make.pierce(axis_line(shape), plane).position


def _of_two(centers: Centers, given: Given) -> list[Derivation]:
    """Constructions and dimensions of two centers."""

    def of(function: Callable | None) -> Callable | None:
        return function and (lambda *shapes: function(*(Point(place) for place in centers(*shapes))))

    return [
        changed(r, make=lambda *s, r=r: r.make(*(Point(p) for p in centers(*s))), draw=of(r.draw), offset=of(r.offset))
        for r in of_points(given)
    ]


def _of_many(centers: Centers, count: int) -> list[Derivation]:
    makers: list[tuple[str, Callable[[Array], Any]]] = [
        ("circle_through_the_centers", make.circle_through_points),
        ("plane_through_the_centers", make.plane_through_points),
        ("line_through_the_centers", make.line_through_points),
        ("middle_of_the_centers", lambda points: Point(points.mean(axis=0))),
    ]
    if count > 3:
        makers.append(("sphere_through_the_centers", make.sphere_through_points))
    found = [Derivation(name, "", lambda *s, m=m: m(np.array(centers(*s)))) for name, m in makers]
    across = Derivation(
        "diameter_of_the_bolt_circle", "mm", lambda *s: 2 * make.circle_through_points(np.array(centers(*s))).radius
    )
    return [*found, across]


def _between_points(a: Any, b: Any) -> Drawing:
    return segment(center_point(a), center_point(b))


def _from_center_to_center(a: Any, b: Any) -> Array:
    return np.asarray(center_point(b) - center_point(a))


def of_points(given: Given) -> list[Derivation]:
    """Of two points, by their centers."""

    def steps(k: int) -> Callable[..., Drawing]:
        def draw(a: Any, b: Any) -> Drawing:
            step = np.zeros(3)
            step[k] = (center_point(b) - center_point(a))[k]
            return segment(center_point(a), center_point(a) + step)

        return draw

    def shadow(k: int) -> Callable[..., Drawing]:
        def draw(a: Any, b: Any) -> Drawing:
            end = center_point(b).copy()
            end[k] = center_point(a)[k]
            return segment(center_point(a), end)

        return draw

    def offset() -> float:
        return wanted(given.offset_mm, "an offset")

    return [
        Derivation(
            "distance_of_the_middles",
            "mm",
            lambda a, b: size.point_to_point(center_point(a), center_point(b)),
            _between_points,
            offset=_from_center_to_center,
        ),
        *(
            Derivation(
                f"along_{axis.lower()}",
                "mm",
                lambda a, b, k=k: size.along_axes(center_point(a), center_point(b))[k],
                steps(k),
                in_axes=True,
            )
            for k, axis in enumerate(size.AXES)
        ),
        *(
            Derivation(
                f"in_the_plane_{plane.lower()}",
                "mm",
                lambda a, b, k=k: size.in_planes(center_point(a), center_point(b))[k],
                shadow(k),
                in_axes=True,
                offset=lambda a, b, k=k: _from_center_to_center(a, b) * (np.arange(3) != k),
            )
            for k, plane in enumerate(("YZ", "XZ", "XY"))
        ),
        Derivation("line_through_the_centers", "", lambda a, b: make.through_points(center_point(a), center_point(b))),
        Derivation("middle_of_the_centers", "", lambda a, b: make.middle_point(center_point(a), center_point(b))),
        Derivation("plane_half_way_between_them", "", lambda a, b: make.plane_between_points(center_point(a), center_point(b))),
        Derivation("hidden_point_beyond_the_second", "", lambda a, b: make.beyond(center_point(a), center_point(b), offset())),
        Derivation("hidden_point_beyond_the_first", "", lambda a, b: make.beyond(center_point(b), center_point(a), offset())),
    ]
