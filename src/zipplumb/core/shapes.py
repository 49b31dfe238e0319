"""One type for nominal and actual shapes. Lengths in mm, angles in radians.

``distance(points)`` is signed: + on the side of a plane's normal, + outside a round shape. What a shape stands for in
constructions and alignments (a point, a line, a plane, a radius) it says itself; ``BaseShape`` says: nothing.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import ArrayLike

from .frames import Array, Motion, cross, unit
from .kernels import CODES, signed_distances

SQUARE = 0.1  # the cosine below which directions do not tell each other's sense


def _vector(value: ArrayLike) -> Array:
    v = np.array(value, float)
    if v.shape != (3,) or not math.isfinite(sum(v.tolist())):
        raise ValueError("three finite numbers are needed")
    return v


def _vectors(value: ArrayLike) -> Array:
    rows = np.array(value, float)
    if rows.ndim != 2 or rows.shape[1] != 3 or not len(rows) or not np.isfinite(rows).all():
        raise ValueError("rows of three finite numbers are needed")
    return rows


def left(size: float) -> float:
    """The remaining size after an offset. Raises ValueError where that is nothing."""
    if size <= 0:
        raise ValueError("the tip is bigger than what it touched")
    return size


def _outline(kind: str, points: Array, center: Array, normal: Array, along: Array, first: float, second: float) -> Array:
    axes = np.column_stack([along, cross(normal, along), normal])
    array = np.ascontiguousarray(points, float)
    return signed_distances(CODES[kind], array, center, np.ascontiguousarray(axes), np.array([first, second]))


@dataclass(frozen=True, eq=False)
class BaseShape:
    """The base of all shapes: validated vectors, unit directions, rigid motions, and what the shape stands for."""

    points_: ClassVar[tuple[str, ...]] = ()
    lengths_: ClassVar[tuple[str, ...]] = ()
    angles_: ClassVar[tuple[str, ...]] = ()
    directions_: ClassVar[tuple[str, ...]] = ()
    rows_: ClassVar[tuple[str, ...]] = ()  # of points, (m, 3)
    direction_rows_: ClassVar[tuple[str, ...]] = ()
    sizes_: ClassVar[tuple[str, ...]] = ()  # lengths, then angles
    derived_: ClassVar[tuple[str, ...]] = ()  # kept with it, and worked out anew where it is moved
    center_: ClassVar[str] = ""  # the field that is its center
    across_: ClassVar[str] = ""  # the field that is the normal of its plane, or of itself
    along_: ClassVar[str] = ""  # the field that is its long direction
    senseless_: ClassVar[tuple[str, ...]] = ()  # the directions of which either sense is the same shape

    def __init_subclass__(cls):
        cls.sizes_ = (*cls.lengths_, *cls.angles_)

    def __post_init__(self):
        values = self.__dict__  # frozen for everybody else
        for name in self.rows_:
            values[name] = _vectors(values[name])
        for name in self.direction_rows_:
            values[name] = unit(_vectors(values[name]))
        for name in self.points_:
            values[name] = _vector(values[name])
        for name in self.directions_:
            values[name] = unit(_vector(values[name]))

    def moved(self, motion: Motion):
        """The shape in the outer frame of ``motion`` (outer_from_inner)."""
        moved = self._like()
        values = moved.__dict__
        turn, shift = motion.rotation, motion.translation
        for name in self.points_:
            values[name] = turn @ values[name] + shift
        for name in self.directions_:
            values[name] = turn @ values[name]
        for name in self.rows_:
            values[name] = values[name] @ turn.T + shift
        for name in self.direction_rows_:
            values[name] = values[name] @ turn.T
        return moved

    def slid(self, by: Array):
        """The shape translated by (3,), mm."""
        moved = self._like()
        values = moved.__dict__
        for name in (*self.points_, *self.rows_):
            values[name] = values[name] + by
        return moved

    def resized(self, by: Mapping[str, float]):
        """The shape with amounts added to some of its sizes, by their names."""
        other = self._like()
        values = other.__dict__
        for name, more in by.items():
            values[name] += more
        return other

    @property
    def as_point(self) -> Array | None:
        """Its center (3,)."""
        return getattr(self, self.center_) if self.center_ else None

    @property
    def as_line(self) -> Line | None:
        """Itself, or its axis."""
        return None

    @property
    def as_plane(self) -> Plane | None:
        return None

    @property
    def as_radius(self) -> float | None:
        """Half the width of something round; 0 of a point."""
        return None

    @property
    def spot(self) -> Array:
        """Any place (3,) on it, or in its middle."""
        return getattr(self, self.center_ or self.points_[0])

    @property
    def direction_of_it(self) -> Array | None:
        """Its axis, or the normal of its plane (3,)."""
        line = self.as_line
        if line is not None:
            return line.direction
        return getattr(self, self.across_) if self.across_ else None

    @property
    def long_direction(self) -> Array | None:
        return getattr(self, self.along_) if self.along_ else None

    @property
    def fits_as(self) -> str:
        """The kind of shape that it is for a fit (``core.fitting``)."""
        return type(self).__name__.lower()

    def parallel(self, by_mm: float):
        """The shape at a distance to the side where ``distance`` is positive. Raises ValueError where that is no such shape."""
        raise ValueError(f"the offset of {type(self).__name__} is no such shape")

    def facing(self, air: int):
        """The shape with its normal toward the air: +1 as it is, -1 the other side. Round shapes have no such sense."""
        return self

    def turned_like(self, *ways: Array):
        """The same shape, each direction that has no sense of its own turned to the side of some directions (3,), of which the
        first that is not square to it tells."""
        turned = self
        for name in self.senseless_:
            mine = getattr(self, name)
            against = next((cosine for way in ways if abs(cosine := float(mine @ way)) > SQUARE), 0.0)
            if against < 0:
                turned = turned if turned is not self else self._like()
                turned.__dict__[name] = -mine
        return turned

    def sliding_to(self, place: Array):
        """The same shape; where any of its places may be the one that it is given by, the one nearest to ``place`` (3,)."""
        return self

    def _like(self):
        """Another that is the same so far: what was checked once stays so under small changes and rigid motions."""
        other = object.__new__(type(self))
        values = other.__dict__
        values.update(self.__dict__)
        for name in self.derived_:
            values.pop(name, None)
        return other

    def _with(self, **values: Any):
        """Another with some fields that need no check."""
        other = self._like()
        other.__dict__.update(values)
        return other

    def scaled(self, factor: float):
        """The shape scaled about the origin."""
        names = (*self.points_, *self.lengths_, *self.rows_)
        return replace(self, **{name: factor * getattr(self, name) for name in names})  # type: ignore[arg-type]


@dataclass(frozen=True, eq=False)
class Point(BaseShape):
    position: Array
    points_ = ("position",)
    center_ = "position"

    @property
    def as_radius(self) -> float:
        return 0.0

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(points - self.position, axis=-1)


@dataclass(frozen=True, eq=False)
class Line(BaseShape):
    point: Array
    direction: Array
    points_, directions_ = ("point",), ("direction",)
    senseless_ = ("direction",)

    @property
    def as_line(self) -> Line:
        return self

    @classmethod
    def checked(cls, point: Array, direction: Array) -> Line:
        """Of a place and a unit direction that a shape has already."""
        line = object.__new__(cls)
        line.__dict__.update(point=point, direction=direction)
        return line

    def sliding_to(self, place: Array) -> Line:
        return self._with(point=self.point + ((place - self.point) @ self.direction) * self.direction)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(cross(points - self.point, self.direction), axis=-1)


@dataclass(frozen=True, eq=False)
class Plane(BaseShape):
    """``normal`` points out of the material; ``point`` is the middle of what was read."""

    point: Array
    normal: Array
    points_, directions_ = ("point",), ("normal",)
    across_ = "normal"

    @property
    def as_plane(self) -> Plane:
        return self

    def sliding_to(self, place: Array) -> Plane:
        return self._with(point=place - ((place - self.point) @ self.normal) * self.normal)

    def distance(self, points: Array) -> Array:
        return (points - self.point) @ self.normal

    def parallel(self, by_mm: float) -> Plane:
        return self._with(point=self.point + by_mm * self.normal)

    def flipped(self) -> Plane:
        return self._with(normal=-self.normal)

    def facing(self, air: int) -> Plane:
        return self if air >= 0 else self.flipped()


class _Round:
    """Base of the shapes that have one radius."""

    radius: float
    lengths_ = ("radius",)

    @property
    def as_radius(self) -> float:
        return self.radius

    def parallel(self, by_mm: float):
        return self._with(radius=left(self.radius + by_mm))  # type: ignore[attr-defined]


@dataclass(frozen=True, eq=False)
class Circle(_Round, BaseShape):
    center: Array
    normal: Array
    radius: float
    points_, directions_ = ("center",), ("normal",)
    center_, across_ = "center", "normal"
    senseless_: ClassVar[tuple[str, ...]] = ("normal",)

    @property
    def fits_as(self) -> str:
        return "circle"

    def distance(self, points: Array) -> Array:
        """Within the circle's plane: + outside, - inside."""
        rel = points - self.center
        return np.linalg.norm(rel - np.outer(rel @ self.normal, self.normal), axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Arc(Circle):
    """The part of a circle from ``start`` (a direction from the center) on by ``span_rad``, counterclockwise."""

    start: Array
    span_rad: float
    directions_ = ("normal", "start")  # type: ignore[assignment]
    senseless_: ClassVar[tuple[str, ...]] = ()  # it runs counterclockwise about its normal

    def along(self, count: int = 33) -> Array:
        """Points (count, 3) from one end to the other."""
        turn = np.linspace(0.0, self.span_rad, count)[:, None]
        across = cross(self.normal, self.start)
        return self.center + self.radius * (np.cos(turn) * self.start + np.sin(turn) * across)


@dataclass(frozen=True, eq=False)
class Ellipse(BaseShape):
    center: Array
    normal: Array
    major_direction: Array
    semi_major: float
    semi_minor: float
    points_, directions_ = ("center",), ("normal", "major_direction")
    lengths_ = ("semi_major", "semi_minor")
    center_, across_, along_ = "center", "normal", "major_direction"
    senseless_ = ("normal", "major_direction")

    def distance(self, points: Array) -> Array:
        """Within the ellipse's plane: + outside, - inside."""
        return _outline("ellipse", points, self.center, self.normal, self.major_direction, self.semi_major, self.semi_minor)


@dataclass(frozen=True, eq=False)
class Slot(BaseShape):
    """``length`` is over all."""

    center: Array
    normal: Array
    direction: Array
    length: float
    width: float
    ends: Literal["round", "square"] = "round"
    points_, directions_ = ("center",), ("normal", "direction")
    lengths_ = ("length", "width")
    center_, across_, along_ = "center", "normal", "direction"
    senseless_ = ("normal", "direction")

    @property
    def fits_as(self) -> str:
        return f"{self.ends}_slot"

    def parallel(self, by_mm: float) -> Slot:
        return self._with(length=left(self.length + 2 * by_mm), width=left(self.width + 2 * by_mm))

    def distance(self, points: Array) -> Array:
        """Within the slot's plane: + outside, - inside; of a square one from the nearer side."""
        kind = f"{self.ends}_slot"
        return _outline(kind, points, self.center, self.normal, self.direction, self.length, self.width)


@dataclass(frozen=True, eq=False)
class Sphere(_Round, BaseShape):
    center: Array
    radius: float
    points_ = ("center",)
    center_ = "center"

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(points - self.center, axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Cylinder(_Round, BaseShape):
    point: Array
    direction: Array
    radius: float
    points_, directions_ = ("point",), ("direction",)
    senseless_ = ("direction",)

    @property
    def as_line(self) -> Line:
        return Line.checked(self.point, self.direction)

    def sliding_to(self, place: Array) -> Cylinder:
        return self._with(point=self.point + ((place - self.point) @ self.direction) * self.direction)

    def distance(self, points: Array) -> Array:
        return np.linalg.norm(cross(points - self.point, self.direction), axis=-1) - self.radius


@dataclass(frozen=True, eq=False)
class Cone(BaseShape):
    """Opens from ``apex`` along ``direction``; ``half_angle`` in radians."""

    apex: Array
    direction: Array
    half_angle: float
    points_, directions_ = ("apex",), ("direction",)
    angles_ = ("half_angle",)

    @property
    def as_line(self) -> Line:
        return Line.checked(self.apex, self.direction)

    def parallel(self, by_mm: float) -> Cone:
        """Its apex slides along the axis."""
        return self._with(apex=self.apex - by_mm / np.sin(self.half_angle) * self.direction)

    def distance(self, points: Array) -> Array:
        rel = points - self.apex
        along = rel @ self.direction
        across = np.linalg.norm(rel - np.outer(along, self.direction), axis=-1)
        return across * np.cos(self.half_angle) - along * np.sin(self.half_angle)


@dataclass(frozen=True, eq=False)
class Torus(BaseShape):
    center: Array
    normal: Array
    major_radius: float
    minor_radius: float
    points_, directions_ = ("center",), ("normal",)
    lengths_ = ("major_radius", "minor_radius")
    center_, across_ = "center", "normal"
    senseless_ = ("normal",)

    def parallel(self, by_mm: float) -> Torus:
        return self._with(minor_radius=left(self.minor_radius + by_mm))

    def distance(self, points: Array) -> Array:
        rel = points - self.center
        height = rel @ self.normal
        across = np.linalg.norm(rel - np.outer(height, self.normal), axis=-1)
        return np.hypot(across - self.major_radius, height) - self.minor_radius
