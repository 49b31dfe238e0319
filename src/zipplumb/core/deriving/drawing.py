"""What shows a construction on the part: points, segments and arcs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..features import Feature, own_direction, spot_of
from ..frames import Array, perpendicular_pair, unit
from ..shapes import Arc, Circle, Ellipse, Line, Plane, Point, Sphere

SMALLEST_MM = 10.0
CLOSED = 2 * np.pi


@dataclass(frozen=True, eq=False)
class Drawing:
    """``points``: (3,) each; ``segments``: (2, 3) each; ``arcs``."""

    points: tuple[Array, ...] = ()
    segments: tuple[Array, ...] = ()
    arcs: tuple[Arc, ...] = ()


def segment(first: Array, second: Array) -> Drawing:
    return Drawing(points=(first, second), segments=(np.array([first, second]),))


def reach_of(features: list[Feature] | tuple[Feature, ...]) -> float:
    """Half the size of what some features cover, for shapes that have no end of their own."""
    places = [spot_of(f.shape)[None] if f.extent is None else f.extent for f in features]
    every = np.vstack(places)
    radii = [getattr(f.shape, "radius", 0.0) for f in features]
    return max(float(np.linalg.norm(np.ptp(every, axis=0))) / 2, *radii, SMALLEST_MM)


def whole_circle(circle: Circle) -> Arc:
    return Arc(circle.center, circle.normal, circle.radius, perpendicular_pair(circle.normal)[0], CLOSED)


def drawn(shape: Any, reach: float) -> Drawing:
    """A made shape, as large as ``reach`` where it has no end."""
    if isinstance(shape, Point):
        return Drawing(points=(shape.position,))
    if isinstance(shape, Line):
        return Drawing(segments=(shape.point + np.outer([-reach, reach], shape.direction),))
    if isinstance(shape, Plane):
        u, v = perpendicular_pair(shape.normal)
        corners = [shape.point + reach * (a * u + b * v) for a, b in ((1, 1), (-1, 1), (-1, -1), (1, -1))]
        return Drawing(segments=tuple(np.array([corners[k - 1], corners[k]]) for k in range(4)))
    if isinstance(shape, Circle):
        return Drawing(points=(shape.center,), arcs=(whole_circle(shape),))
    if isinstance(shape, Ellipse):
        turn = np.linspace(0, CLOSED, 49)
        minor = np.cross(shape.normal, shape.major_direction)
        across = np.outer(shape.semi_major * np.cos(turn), shape.major_direction) + np.outer(
            shape.semi_minor * np.sin(turn), minor
        )
        outline = shape.center + across
        return Drawing(points=(shape.center,), segments=tuple(np.stack([outline[:-1], outline[1:]], axis=1)))
    if isinstance(shape, Sphere):
        return Drawing((shape.center,), arcs=tuple(whole_circle(Circle(shape.center, n, shape.radius)) for n in np.eye(3)))
    return Drawing()


def angle_drawn(first: Any, second: Any) -> Drawing:
    """Two legs from the middle of the first along both directions, and the arc between them."""
    start, end = own_direction(first), own_direction(second)
    corner, radius = spot_of(first), max(float(np.linalg.norm(spot_of(second) - spot_of(first))) / 3, SMALLEST_MM)
    legs = tuple(np.array([corner, corner + radius * d]) for d in (start, end))
    across = np.cross(start, end)
    if np.linalg.norm(across) < 1e-9:
        return Drawing(segments=legs)
    span = float(np.arctan2(np.linalg.norm(across), start @ end))
    return Drawing(segments=legs, arcs=(Arc(corner, unit(across), radius, start, span),))
