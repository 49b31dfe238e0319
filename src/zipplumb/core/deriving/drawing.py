"""The drawing of a construction on the part: points, segments and arcs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..features import Feature, axis_of, own_direction, plane_of, spot_of
from ..frames import Array, cross, perpendicular_pair, unit
from ..sections import Section
from ..shapes import Arc, Circle, Ellipse, Line, Plane, Point, Slot, Sphere

SMALLEST_MM = 10.0
CLOSED = 2 * np.pi


@dataclass(frozen=True, eq=False)
class Drawing:
    """``points``: (3,) each; ``segments``: (2, 3) each; ``arcs``."""

    points: tuple[Array, ...] = ()
    segments: tuple[Array, ...] = ()
    arcs: tuple[Arc, ...] = ()

    def places(self, count: int) -> Array:
        """About so many places (n, 3) along its lines."""
        lines = [*self.segments, *(arc.along(count) for arc in self.arcs)]
        lengths = [float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum()) for line in lines]
        each = [max(2, round(count * length / max(sum(lengths), 1e-9))) for length in lengths]
        found = [
            line[0] + np.linspace(0, 1, n)[:, None] * (line[-1] - line[0])
            if len(line) == 2
            else line[np.linspace(0, len(line) - 1, n).round().astype(int)]
            for line, n in zip(lines, each, strict=True)
        ]
        return np.vstack(found) if found else np.empty((0, 3))


def segment(first: Array, second: Array) -> Drawing:
    return Drawing(points=(first, second), segments=(np.array([first, second]),))


def reach_of(features: list[Feature] | tuple[Feature, ...]) -> float:
    """Half the size of what some features cover, for shapes that have no end of their own."""
    places = [spot_of(f.shape)[None] if f.extent is None else f.extent for f in features]
    every = np.vstack(places)
    radii = [getattr(f.shape, "radius", 0.0) for f in features]
    return max(float(np.linalg.norm(np.ptp(every, axis=0))) / 2, *radii, SMALLEST_MM)


def reach_on(shape: Any, features: Sequence[Feature]) -> Array | None:
    """How far a made axis or plane reaches: as far as what it is made of, dropped onto it (m, 3); None of other shapes."""
    places = np.vstack([spot_of(f.shape)[None] if f.extent is None else f.extent for f in features])
    axis, plane = axis_of(shape), plane_of(shape)
    if axis is not None:
        along = (places - axis.point) @ axis.direction
        return np.asarray(axis.point + np.outer([along.min(), along.max()], axis.direction))
    return None if plane is None else np.asarray(places - np.outer(plane.distance(places), plane.normal))


def whole_circle(circle: Circle) -> Arc:
    return Arc(circle.center, circle.normal, circle.radius, perpendicular_pair(circle.normal)[0], CLOSED)


def _plane(shape: Plane, reach: float) -> Drawing:
    u, v = perpendicular_pair(shape.normal)
    corners = np.array([shape.point + reach * (a * u + b * v) for a, b in ((1, 1), (-1, 1), (-1, -1), (1, -1), (1, 1))])
    return Drawing(segments=_segments(corners))


def _ellipse(shape: Ellipse, reach: float) -> Drawing:
    turn = np.linspace(0, CLOSED, 49)[:, None]
    minor = cross(shape.normal, shape.major_direction)
    across = shape.semi_major * np.cos(turn) * shape.major_direction + shape.semi_minor * np.sin(turn) * minor
    return Drawing(points=(shape.center,), segments=_segments(shape.center + across))


def _slot(shape: Slot, reach: float) -> Drawing:
    along, across = shape.direction, cross(shape.normal, shape.direction)
    half, side = shape.length / 2, shape.width / 2
    if shape.ends == "square":
        corners = ((half, side), (-half, side), (-half, -side), (half, -side), (half, side))
        return Drawing((shape.center,), _segments(np.array([shape.center + a * along + b * across for a, b in corners])))
    ends = [shape.center + s * (half - side) * along for s in (1, -1)]
    arcs = tuple(Arc(end, shape.normal, side, -s * across, np.pi) for end, s in zip(ends, (1, -1), strict=True))
    sides = tuple(np.array([end + s * side * across for end in ends]) for s in (1, -1))
    return Drawing((shape.center,), sides, arcs)


def _sphere(shape: Sphere, reach: float) -> Drawing:
    return Drawing((shape.center,), arcs=tuple(whole_circle(Circle(shape.center, n, shape.radius)) for n in np.eye(3)))


def _segments(line: Array) -> tuple[Array, ...]:
    return tuple(np.stack([line[:-1], line[1:]], axis=1))


DRAWN: dict[type, Callable[[Any, float], Drawing]] = {
    Point: lambda shape, reach: Drawing(points=(shape.position,)),
    Line: lambda shape, reach: Drawing(segments=(shape.point + np.outer([-reach, reach], shape.direction),)),
    Plane: _plane,
    Circle: lambda shape, reach: Drawing(points=(shape.center,), arcs=(whole_circle(shape),)),
    Arc: lambda shape, reach: Drawing(points=(shape.center,), arcs=(shape,)),
    Ellipse: _ellipse,
    Slot: _slot,
    Sphere: _sphere,
    Section: lambda shape, reach: Drawing(segments=_segments(shape.points)),
}


def drawn(shape: Any, reach: float) -> Drawing:
    """A shape, as large as ``reach`` where it has no end; nothing of one that shows itself by its face."""
    draw = DRAWN.get(type(shape))
    return draw(shape, reach) if draw else Drawing()


def angle_drawn(first: Any, second: Any) -> Drawing:
    """Two legs from the middle of the first along both directions, and the arc between them."""
    start, end = own_direction(first), own_direction(second)
    corner, radius = spot_of(first), max(float(np.linalg.norm(spot_of(second) - spot_of(first))) / 3, SMALLEST_MM)
    legs = tuple(np.array([corner, corner + radius * d]) for d in (start, end))
    across = cross(start, end)
    if np.linalg.norm(across) < 1e-9:
        return Drawing(segments=legs)
    span = float(np.arctan2(np.linalg.norm(across), start @ end))
    return Drawing(segments=legs, arcs=(Arc(corner, unit(across), radius, start, span),))
