"""One type for nominal and actual shapes. Lengths in mm, angles in radians.

``distance(points)`` is signed: + on the side of a plane's normal, + outside a round shape.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import ArrayLike

from .frames import Array, Motion, unit


def _vector(value: ArrayLike) -> Array:
    v = np.array(value, float)
    if v.shape != (3,) or not np.all(np.isfinite(v)):
        raise ValueError("three finite numbers are needed")
    return v


@dataclass(frozen=True, eq=False)
class _Shape:
    """What all shapes share: clean vectors, unit directions, and being moved."""

    points_: ClassVar[tuple[str, ...]] = ()
    directions_: ClassVar[tuple[str, ...]] = ()

    def __post_init__(self):
        for name in self.points_:
            object.__setattr__(self, name, _vector(getattr(self, name)))
        for name in self.directions_:
            object.__setattr__(self, name, unit(_vector(getattr(self, name))))

    def moved(self, motion: Motion):
        """The same shape in the outer frame of ``motion`` (outer_from_inner)."""
        changed = {name: motion.points(getattr(self, name)) for name in self.points_}
        changed |= {name: motion.vectors(getattr(self, name)) for name in self.directions_}
        return replace(self, **changed)  # type: ignore[arg-type]


@dataclass(frozen=True, eq=False)
class Point(_Shape):
    position: Array
    points_ = ("position",)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(points - self.position, axis=-1)


@dataclass(frozen=True, eq=False)
class Line(_Shape):
    point: Array
    direction: Array
    points_, directions_ = ("point",), ("direction",)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(np.cross(points - self.point, self.direction), axis=-1)


@dataclass(frozen=True, eq=False)
class Plane(_Shape):
    """``normal`` points out of the material; ``point`` is the middle of what was read."""

    point: Array
    normal: Array
    points_, directions_ = ("point",), ("normal",)

    def distance(self, points: Array) -> Array:
        return (points - self.point) @ self.normal

    def offset(self, by_mm: float) -> Plane:
        return replace(self, point=self.point + by_mm * self.normal)

    def flipped(self) -> Plane:
        return replace(self, normal=-self.normal)


@dataclass(frozen=True, eq=False)
class Circle(_Shape):
    center: Array
    normal: Array
    radius: float
    points_, directions_ = ("center",), ("normal",)

    def distance(self, points: Array) -> Array:
        """Within the circle's plane: + outside, - inside."""
        rel = points - self.center
        return np.linalg.norm(rel - np.outer(rel @ self.normal, self.normal), axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Ellipse(_Shape):
    center: Array
    normal: Array
    major_direction: Array
    semi_major: float
    semi_minor: float
    points_, directions_ = ("center",), ("normal", "major_direction")


@dataclass(frozen=True, eq=False)
class Slot(_Shape):
    """``length`` is over all."""

    center: Array
    normal: Array
    direction: Array
    length: float
    width: float
    ends: Literal["round", "square"] = "round"
    points_, directions_ = ("center",), ("normal", "direction")


@dataclass(frozen=True, eq=False)
class Sphere(_Shape):
    center: Array
    radius: float
    points_ = ("center",)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(points - self.center, axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Cylinder(_Shape):
    point: Array
    direction: Array
    radius: float
    points_, directions_ = ("point",), ("direction",)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(np.cross(points - self.point, self.direction), axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Cone(_Shape):
    """Opens from ``apex`` along ``axis direction``; ``half_angle`` in radians."""

    apex: Array
    direction: Array
    half_angle: float
    points_, directions_ = ("apex",), ("direction",)

    def distance(self, points: Array) -> Array:
        rel = points - self.apex
        along = rel @ self.direction
        across = np.linalg.norm(rel - np.outer(along, self.direction), axis=-1)
        return across * np.cos(self.half_angle) - along * np.sin(self.half_angle)


@dataclass(frozen=True, eq=False)
class Torus(_Shape):
    center: Array
    normal: Array
    major_radius: float
    minor_radius: float
    points_, directions_ = ("center",), ("normal",)

    def distance(self, points: Array) -> Array:
        rel = points - self.center
        height = rel @ self.normal
        across = np.linalg.norm(rel - np.outer(height, self.normal), axis=-1)
        return np.hypot(across - self.major_radius, height) - self.minor_radius
