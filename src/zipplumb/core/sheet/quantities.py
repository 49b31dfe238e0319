"""Numbers of a shape in the part: what a characteristic is of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..features import axis_line, center_point, own_direction, point_of
from ..frames import Array, angle_between, cross
from ..shapes import Plane

AXES = "xyz"


@dataclass(frozen=True, eq=False)
class Quantity:
    """One number that a feature has.

    Attributes
    ----------
    of : shape in the part -> number; None for the form, which the hits tell
    nominal : what it should be; None where nothing says so
    offset : shape in the part -> (3,) of which the number is the length, where it is one
    in_part : it means something in a coordinate system only
    tip_share : how much of a tip that is not off yet it still holds
    each : shape in the part -> (n,) of which the number is the extreme, where it is one of many
    about : then it is twice the farthest of these from zero, and not the largest
    """

    key: str
    unit: Literal["mm", "rad"] = "mm"
    of: Callable[[Any], float] | None = None
    nominal: float | None = None
    in_part: bool = False
    tip_share: float = 0.0
    offset: Callable[[Any], Array] | None = None
    each: Callable[[Any], Array] | None = None
    about: bool = False


def form(key: str) -> Quantity:
    """Largest less smallest residual; nominally none."""
    return Quantity(key, nominal=0.0)


def size(key: str, of: Callable[[Any], float], nominal: Any, unit: Literal["mm", "rad"] = "mm") -> Quantity:
    """A number of the shape itself, wherever it is."""
    return Quantity(key, unit, of, None if nominal is None else float(of(nominal)))


def coordinates(nominal: Any) -> tuple[Quantity, ...]:
    """X, Y and Z of the center."""
    at = None if nominal is None else point_of(nominal)
    return tuple(
        Quantity(axis, "mm", lambda s, k=k: float(center_point(s)[k]), None if at is None else float(at[k]), in_part=True)
        for k, axis in enumerate(AXES)
    )


def distance_off(nominal: Any) -> tuple[Quantity, ...]:
    """How far the center is from where it should be."""
    if nominal is None:
        return ()
    at = center_point(nominal)

    def offset(shape: Any) -> Array:
        return np.asarray(center_point(shape) - at)

    return (Quantity("off", "mm", _length_of(offset), 0.0, in_part=True, offset=offset),)


def _length_of(offset: Callable[[Any], Array]) -> Callable[[Any], float]:
    return lambda shape: float(np.linalg.norm(offset(shape)))


def axis_off(nominal: Any) -> tuple[Quantity, ...]:
    """How far the axis passes from the nominal one's middle."""
    if nominal is None:
        return ()
    at = axis_line(nominal).point

    def offset(shape: Any) -> Array:
        axis = axis_line(shape)
        return cross(at - axis.point, axis.direction)

    return (Quantity("off", "mm", _length_of(offset), 0.0, in_part=True, offset=offset),)


def height(nominal: Plane | None) -> tuple[Quantity, ...]:
    """Of the middle of what was touched, along the nominal normal."""
    if nominal is None:
        return ()
    normal = nominal.normal
    return (Quantity("height", "mm", lambda s: float(s.point @ normal), float(nominal.point @ normal), in_part=True),)


def tilt(nominal: Any) -> tuple[Quantity, ...]:
    """Angle between the direction and the nominal one, whatever their senses."""
    if nominal is None:
        return ()
    along = own_direction(nominal)

    def offset(shape: Any) -> Array:
        return cross(own_direction(shape), along)

    def angle(shape: Any) -> float:
        return angle_between(own_direction(shape), along)

    return (Quantity("tilt", "rad", angle, 0.0, in_part=True, offset=offset),)
