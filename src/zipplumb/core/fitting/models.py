"""Signed distances to shapes in standard position, with what a descent needs of them.

Each model answers for points in the shape's own axes (origin on the shape, z along its axis
or normal): the distance, its gradient by the point, and its derivatives by the sizes.
Everything else about a fit (moving the shape, holding a parameter) follows from the gradient
alone; see ``descent.py``. Points come as columns, (3, n), so that every coordinate lies
together in memory. Sign: + on the normal's side, or outside a round shape.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..frames import Array

Answer = tuple[Array, Array, Array]  # distance (n,), gradient (3, n), by sizes (k, n)


@dataclass(frozen=True)
class Model:
    """``moves``: the rigid steps that change the shape, of x y z rx ry rz; ``sizes``: names."""

    distance: Callable[[Array, Array], Answer]
    moves: tuple[str, ...]
    sizes: tuple[str, ...]
    flat: bool = False  # lies in a projection plane: z of the points is left aside


def _safe(values: Array) -> Array:
    return np.maximum(values, 1e-300)


def _ones(p: Array, value: float = -1.0) -> Array:
    return np.full((1, p.shape[1]), value)


def _plane(p: Array, sizes: Array) -> Answer:
    gradient = np.zeros_like(p)
    gradient[2] = 1.0
    return p[2], gradient, np.empty((0, p.shape[1]))


def _circle(p: Array, sizes: Array) -> Answer:
    across = np.hypot(p[0], p[1])
    gradient = np.empty_like(p)
    np.divide(p[:2], _safe(across), out=gradient[:2])
    gradient[2] = 0.0
    return across - sizes[0], gradient, _ones(p)


def _sphere(p: Array, sizes: Array) -> Answer:
    distance = np.sqrt(np.einsum("ij,ij->j", p, p))
    return distance - sizes[0], p / _safe(distance), _ones(p)


def _cone(p: Array, sizes: Array) -> Answer:
    """Sizes: radius where z = 0, and half angle; it opens along +z."""
    radius, half_angle = sizes
    cosine, sine = np.cos(half_angle), np.sin(half_angle)
    across = np.hypot(p[0], p[1])
    gradient = np.empty_like(p)
    np.multiply(p[:2], cosine / _safe(across), out=gradient[:2])
    gradient[2] = -sine
    beyond = across - radius
    by_sizes = np.stack([np.full_like(across, -cosine), -beyond * sine - p[2] * cosine])
    return beyond * cosine - p[2] * sine, gradient, by_sizes


def _torus(p: Array, sizes: Array) -> Answer:
    across = np.hypot(p[0], p[1])
    beyond = across - sizes[0]
    distance = np.hypot(beyond, p[2])
    outward = beyond / _safe(distance)
    gradient = np.empty_like(p)
    np.multiply(p[:2], outward / _safe(across), out=gradient[:2])
    gradient[2] = p[2] / _safe(distance)
    return distance - sizes[1], gradient, np.stack([-outward, np.full_like(across, -1.0)])


def _ellipse(p: Array, sizes: Array) -> Answer:
    """Sizes: semi axes along x and y."""
    angle = ellipse_feet(p[0], p[1], float(sizes[0]), float(sizes[1]))
    cosine, sine = np.cos(angle), np.sin(angle)
    normal = np.stack([sizes[1] * cosine, sizes[0] * sine])
    normal /= _safe(np.hypot(*normal))
    gradient = np.zeros_like(p)
    gradient[:2] = normal
    distance = (p[0] - sizes[0] * cosine) * normal[0] + (p[1] - sizes[1] * sine) * normal[1]
    return distance, gradient, -normal * np.stack([cosine, sine])


def ellipse_feet(px: Array, py: Array, a: float, b: float) -> Array:
    """Parameters (n,) of the nearest points of an ellipse in standard position.

    Source: D. Eberly, "Distance from a point to an ellipse" (Geometric Tools, 2013): in the
    first quadrant the foot is the one root of a convex, falling function; Newton's method
    from its left end meets it from one side and cannot miss.
    """
    x, y = np.abs(px), np.abs(py)
    shift = np.maximum(a * x - a * a, b * y - b * b)  # left end of the root's interval
    for _ in range(60):
        p, q = a * x / (shift + a * a), b * y / (shift + b * b)
        value = p * p + q * q - 1
        slope = -2 * (p * p / (shift + a * a) + q * q / (shift + b * b))
        step = np.where(np.abs(slope) > 1e-300, value / np.where(slope == 0, 1, slope), 0.0)
        shift = shift - step
        if np.all(np.abs(step) <= 1e-15 * max(a, b) ** 2):
            break
    cosine, sine = a * x / (shift + a * a), b * y / (shift + b * b)
    return np.arctan2(np.copysign(sine, py), np.copysign(cosine, px))


def _round_slot(p: Array, sizes: Array) -> Answer:
    """Sizes: length over all (along x) and width."""
    half = (sizes[0] - sizes[1]) / 2
    along = np.maximum(np.abs(p[0]) - half, 0.0)
    distance = np.hypot(along, p[1])
    share = along / _safe(distance)
    gradient = np.zeros_like(p)
    gradient[0] = np.sign(p[0]) * share
    gradient[1] = p[1] / _safe(distance)
    return distance - sizes[1] / 2, gradient, np.stack([-share / 2, share / 2 - 0.5])


def _square_slot(p: Array, sizes: Array) -> Answer:
    """Each point belongs to the side that it is nearest to."""
    ends, sides = np.abs(p[0]) - sizes[0] / 2, np.abs(p[1]) - sizes[1] / 2
    end = ends > sides
    gradient = np.zeros_like(p)
    gradient[0] = np.where(end, np.sign(p[0]), 0.0)
    gradient[1] = np.where(end, 0.0, np.sign(p[1]))
    by_sizes = np.stack([np.where(end, -0.5, 0.0), np.where(end, 0.0, -0.5)])
    return np.where(end, ends, sides), gradient, by_sizes


MODELS = {
    "plane": Model(_plane, ("z", "rx", "ry"), ()),
    "circle": Model(_circle, ("x", "y"), ("radius",), flat=True),
    "ellipse": Model(_ellipse, ("x", "y", "rz"), ("semi_major", "semi_minor"), flat=True),
    "round_slot": Model(_round_slot, ("x", "y", "rz"), ("length", "width"), flat=True),
    "square_slot": Model(_square_slot, ("x", "y", "rz"), ("length", "width"), flat=True),
    "sphere": Model(_sphere, ("x", "y", "z"), ("radius",)),
    "cylinder": Model(_circle, ("x", "y", "rx", "ry"), ("radius",)),
    "cone": Model(_cone, ("x", "y", "rx", "ry"), ("radius", "half_angle")),
    "torus": Model(_torus, ("x", "y", "z", "rx", "ry"), ("major_radius", "minor_radius")),
}
