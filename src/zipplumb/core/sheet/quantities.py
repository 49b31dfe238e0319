"""Quantities of a shape in part coordinates, from which characteristics are made, with analytic derivatives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..features import axis_line, center_point, own_direction, point_of, sizes_of
from ..frames import Array, angle_between, cross
from ..shapes import Plane

AXES = "xyz"
UNIT, NOTHING = np.eye(3), np.zeros((3, 3))
NO_LENGTH = 1e-9


@dataclass(frozen=True, eq=False)
class Quantity:
    """One quantity of a feature.

    Attributes
    ----------
    of : shape in the part -> number; None for the form, which the hits tell
    nominal : what it should be; None where nothing says so
    offset : shape in the part -> (3,) of which the number is the length, where it is one
    in_part : it means something in a coordinate system only
    tip_share : how much of a tip that is not off yet it still holds
    slopes : shape in the part -> (1 + m, 6 + s): how the number, and then each of the m numbers of the offset, answer to
        a small slide (mm) and turn (rad) of the shape about the origin, and to its s sizes; None where that is worked out
        by differences
    each : shape in the part -> (n,) of which the number is the extreme, where it is one of many
    about : then it is twice the farthest of these from zero, and not the largest
    wraps : it is an angle that is the same after a whole turn
    """

    key: str
    unit: Literal["mm", "rad"] = "mm"
    of: Callable[[Any], float] | None = None
    nominal: float | None = None
    in_part: bool = False
    tip_share: float = 0.0
    offset: Callable[[Any], Array] | None = None
    slopes: Callable[[Any], Array] | None = None
    each: Callable[[Any], Array] | None = None
    about: bool = False
    wraps: bool = False


def form(key: str) -> Quantity:
    """Largest less smallest residual; nominally none."""
    return Quantity(key, nominal=0.0)


def size(key: str, name: str, nominal: Any, times: float = 1.0, unit: Literal["mm", "rad"] = "mm") -> Quantity:
    """A number of the shape itself, wherever it is: so many times one of its sizes."""

    def of(shape: Any) -> float:
        return times * float(getattr(shape, name))

    def slopes(shape: Any) -> Array:
        names = sizes_of(shape)
        found = np.zeros((1, 6 + len(names)))
        found[0, 6 + names.index(name)] = times
        return found

    return Quantity(key, unit, of, None if nominal is None else of(nominal), slopes=slopes)


def coordinates(nominal: Any) -> tuple[Quantity, ...]:
    """X, Y and Z of the center."""
    at = None if nominal is None else point_of(nominal)
    return tuple(
        Quantity(axis, "mm", _COORDINATES[k], None if at is None else float(at[k]), in_part=True, slopes=_COORDINATE_SLOPES[k])
        for k, axis in enumerate(AXES)
    )


def _coordinate(k: int) -> Callable[[Any], float]:
    return lambda shape: float(center_point(shape)[k])


def _coordinate_slopes(k: int) -> Callable[[Any], Array]:
    def slopes(shape: Any) -> Array:
        found = np.zeros((1, 6 + len(sizes_of(shape))))
        found[0, k] = 1.0
        found[0, 3:6] = turning(center_point(shape))[k]
        return found

    return slopes


_COORDINATES = tuple(_coordinate(k) for k in range(3))
_COORDINATE_SLOPES = tuple(_coordinate_slopes(k) for k in range(3))


def turning(place: Array) -> Array:
    """(3, 3): how a place goes with a small turn about the origin."""
    x, y, z = place.tolist()
    return np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])


def of_length(shape: Any, offset: Array, slide: Array, turn: Array, more: float = 1.0) -> Array:
    """Slopes (4, 6 + s) of ``more`` times the length of an offset, and of the offset, from how that goes (3, 3) with a slide
    and a turn.

    Of no length it folds, and has no slope: that row is zero.
    """
    found = np.zeros((4, 6 + len(sizes_of(shape))))
    found[1:, :3], found[1:, 3:6] = slide, turn
    long = float(np.sqrt(offset @ offset))
    if long > NO_LENGTH:
        found[0] = more * (offset @ found[1:] / long)
    return found


def distance_off(nominal: Any) -> tuple[Quantity, ...]:
    """How far the center is from where it should be."""
    if nominal is None:
        return ()
    at = center_point(nominal)

    def offset(shape: Any) -> Array:
        return np.asarray(center_point(shape) - at)

    def slopes(shape: Any) -> Array:
        return of_length(shape, offset(shape), UNIT, turning(center_point(shape)))

    return (Quantity("off", "mm", _length_of(offset), 0.0, in_part=True, offset=offset, slopes=slopes),)


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

    def slopes(shape: Any) -> Array:
        axis = axis_line(shape)
        p, d, q = axis.point, axis.direction, at - axis.point
        turn = (p @ d + q @ d) * UNIT - np.outer(p, d) - np.outer(d, q)
        return of_length(shape, cross(q, d), -turning(d), turn)

    return (Quantity("off", "mm", _length_of(offset), 0.0, in_part=True, offset=offset, slopes=slopes),)


def height(nominal: Plane | None) -> tuple[Quantity, ...]:
    """The height of the middle of what was touched, along the nominal normal."""
    if nominal is None:
        return ()
    normal = nominal.normal

    def slopes(shape: Any) -> Array:
        return np.concatenate([normal, cross(shape.point, normal)])[None, :]

    return (
        Quantity("height", "mm", lambda s: float(s.point @ normal), float(nominal.point @ normal), in_part=True, slopes=slopes),
    )


def tilt(nominal: Any) -> tuple[Quantity, ...]:
    """Angle between the direction and the nominal one, whatever their senses."""
    if nominal is None:
        return ()
    along = own_direction(nominal)

    def offset(shape: Any) -> Array:
        return cross(own_direction(shape), along)

    def angle(shape: Any) -> float:
        return angle_between(own_direction(shape), along)

    def slopes(shape: Any) -> Array:
        direction = own_direction(shape)
        cosine = float(direction @ along)
        turn = np.outer(direction, along) - cosine * UNIT
        return of_length(shape, cross(direction, along), NOTHING, turn, 1 / max(abs(cosine), NO_LENGTH))

    return (Quantity("tilt", "rad", angle, 0.0, in_part=True, offset=offset, slopes=slopes),)
