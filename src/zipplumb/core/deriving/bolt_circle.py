"""The circle through the holes of a pattern, and how far each hole is from its place on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..fitting import fit
from ..frames import Array, Motion
from ..shapes import Circle
from ..uncertainty import propagate
from .features import Feature, differences, frame_of, point_of


@dataclass(frozen=True)
class HoleError:
    """Of one hole, with standard uncertainties.

    ``radial_mm``: + farther out than the circle. ``angular_rad``, and ``along_mm`` as a length on
    the circle: from its place in the even division, + counterclockwise seen against the normal.
    """

    name: str
    radial_mm: float
    u_radial_mm: float
    angular_rad: float
    u_angular_rad: float
    along_mm: float


@dataclass(frozen=True, eq=False)
class BoltCircle:
    """``circle``: through the centers; ``holes``: in the order given; ``count``: of the full pattern."""

    circle: Feature
    diameter_mm: float
    u_diameter_mm: float
    count: int
    holes: tuple[HoleError, ...]


def bolt_circle(holes: Sequence[Feature], count: int | None = None, normal: Array | None = None) -> BoltCircle:
    """The bolt circle of holes that divide it evenly.

    Parameters
    ----------
    holes : in any order; each takes the nearest place of the even division, which is turned to
        fit them all best
    count : places of the full pattern, where some holes were not measured; all were by default
    normal : (3,) of the plane that they lie in; by default the plane through the centers

    Raises
    ------
    DeriveError
        Fewer than three holes, holes without a center, or two holes at one place.
    """
    if len(holes) < 3:
        raise DeriveError("A bolt circle needs three holes.", "The holes are kept.", "Choose more holes.")
    without = [h.name for h in holes if point_of(h.shape) is None]
    if without:
        raise DeriveError(f"{without[0]} has no center.", "The holes are kept.", "Choose holes only.")
    count = count or len(holes)
    if count < len(holes):
        raise DeriveError(f"{len(holes)} holes cannot share {count} places.", "The holes are kept.", "Correct the number.")
    fixed = {} if normal is None else {"normal": normal}

    def around(*shapes) -> Circle:
        return fit("circle", np.array([point_of(s) for s in shapes]), fixed=fixed).shape

    circle = around(*(h.shape for h in holes))
    local = frame_of(circle)
    places = _places(np.array([point_of(h.shape) for h in holes]), local, count)
    if len(set(places.tolist())) < len(holes):
        raise DeriveError(
            "Two holes lie nearest to one place of an even division.", "The holes are kept.", "Give the number of places."
        )

    def errors(*shapes) -> Array:
        found = around(*shapes)
        rel = _seen(np.array([point_of(s) for s in shapes]), local, found)
        off = _wrapped(np.arctan2(rel[:, 1], rel[:, 0]) - places * 2 * np.pi / count)
        off = _wrapped(off - np.arctan2(np.sin(off).mean(), np.cos(off).mean()))
        return np.concatenate([np.hypot(rel[:, 0], rel[:, 1]) - found.radius, off, [2 * found.radius]])

    values, covariance = propagate(errors, holes)
    u, n = np.sqrt(np.maximum(np.diag(covariance), 0.0)), len(holes)
    rows = tuple(
        HoleError(
            h.name, float(values[k]), float(u[k]), float(values[n + k]), float(u[n + k]), float(values[n + k] * circle.radius)
        )
        for k, h in enumerate(holes)
    )
    _, spread = propagate(lambda *shapes: differences(around(*shapes), local), holes)
    return BoltCircle(Feature("Bolt circle", circle, local, spread), float(values[-1]), float(u[-1]), count, rows)


def _wrapped(angle: Array) -> Array:
    return (angle + np.pi) % (2 * np.pi) - np.pi


def _seen(points: Array, local: Motion, circle: Circle) -> Array:
    return local.inverse().vectors(points - circle.center)


def _places(points: Array, local: Motion, count: int) -> Array:
    """Number (n,) of each hole's place, the division turned to where most holes agree."""
    x, y, _ = local.inverse().points(points).T
    angles, pitch = np.arctan2(y, x), 2 * np.pi / count
    turned = np.angle(np.exp(1j * angles * count).sum()) / count
    return np.round((angles - turned) / pitch).astype(int) % count
