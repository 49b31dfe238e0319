"""The circle through the holes of a pattern, and how far each hole is from its place on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..features import Feature, center_covariance, point_of
from ..fitting import FitResult, fit
from ..frames import Array


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
    centers = np.array([point_of(h.shape) for h in holes])
    spreads = np.array([center_covariance(h) for h in holes])
    found = fit("circle", centers, fixed={} if normal is None else {"normal": normal}, u_hits_mm=spreads)
    rel = found.local.inverse().points(centers)[:, :2]
    angles = np.arctan2(rel[:, 1], rel[:, 0])
    places = _places(angles, count)
    if len(set(places.tolist())) < len(holes):
        raise DeriveError(
            "Two holes lie nearest to one place of an even division.", "The holes are kept.", "Give the number of places."
        )
    off = _wrapped(angles - places * 2 * np.pi / count)
    off = _wrapped(off - np.angle(np.exp(1j * off).sum()))
    u_radial, u_angular = _uncertainties(found, rel, spreads)
    names = [h.name for h in holes]
    rows = zip(names, found.residuals, u_radial, off, u_angular, off * found.shape.radius, strict=True)
    return BoltCircle(
        Feature.of_fit("Bolt circle", found),
        2 * found.shape.radius,
        2 * found.u("radius"),
        count,
        tuple(HoleError(name, *(float(v) for v in values)) for name, *values in rows),
    )


def _uncertainties(found: FitResult, rel: Array, spreads: Array) -> tuple[Array, Array]:
    """Of every radial (mm) and angular (rad) error, linearly (JCGM 100).

    A hole's own shift counts directly, and every hole's through the circle and the division that
    it helped to fit.
    """
    n, radius = len(rel), np.linalg.norm(rel, axis=1)
    _, rows, pulls = found.linear(found.points)
    jacobian, outward = rows[:, 0, :], pulls[:, 0, :]
    x, y, _ = found.local.rotation.T
    along = np.outer(-rel[:, 1] / radius, x) + np.outer(rel[:, 0] / radius, y)
    shifted = -np.einsum("ab,nb,ni->ani", found.unit_covariance, jacobian, outward)  # circle by every center, (k, n, 3)
    each = np.eye(n)[:, :, None]
    radial = each * outward[None] + np.einsum("ma,ani->mni", jacobian, shifted)
    center = x[:, None, None] * shifted[0] + y[:, None, None] * shifted[1]  # (3, n, 3)
    angular = (each * along[None] - np.einsum("mj,jni->mni", along, center)) / radius[:, None, None]
    angular = angular - angular.mean(axis=0)
    return tuple(np.sqrt(np.einsum("mni,nij,mnj->m", d, spreads, d)) for d in (radial, angular))  # type: ignore[return-value]


def _wrapped(angle: Array) -> Array:
    return (angle + np.pi) % (2 * np.pi) - np.pi


def _places(angles: Array, count: int) -> Array:
    """Number (n,) of each hole's place, the division turned to where most holes agree."""
    turned = np.angle(np.exp(1j * angles * count).sum()) / count
    return np.round((angles - turned) * count / (2 * np.pi)).astype(int) % count
