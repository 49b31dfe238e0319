"""The tip's radius taken off: from the shape of the tip centers to the surface they touched.

Where the offset of a shape is a shape of the same kind (plane, circle, arc, sphere, cylinder,
cone, torus, slots, a line in its plane), the centers are fitted first and the shape is moved
by the tip's radius: nothing is lost. The offset of an ellipse is no ellipse; there the centers
are fitted as points that lie one radius off the ellipse. Both are exact, and the result says
which was done.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ..errors import FitError
from ..fitting import FitResult, Placed, fit
from ..frames import Array, unit

How = Literal["fitted, then offset", "fitted as an offset"]


@dataclass(frozen=True, eq=False)
class Compensated:
    """``fit``: of the tip centers; ``surface``: what they touched; ``contacts`` (n, 3): where; ``how``: see the module."""

    fit: FitResult
    surface: Any
    contacts: Array
    how: How


def compensate(
    kind: str,
    centers: Array,
    tip_radius_mm: float,
    air: int,
    fixed: Mapping[str, Any] | None = None,
    toward: Array | None = None,
    criterion: str = "gaussian",
) -> Compensated:
    """Fit a kind to tip centers and take the tip's radius off.

    Parameters
    ----------
    kind, fixed, toward, criterion : as for ``fit``
        A line needs the plane that it lies in; a point needs ``toward``, the way to the air.
    air : +1 air on the side of the normal or outside a round shape, -1 on the other side
        Of a line in its plane and of a point: on the side of ``toward``, or the other.

    Raises
    ------
    FitError
        As ``fit``; also a tip bigger than what it touched, or a side that is not known.

    Examples
    --------
    A ball of radius 3 in a bore: its centers lie on a diameter of 14, the bore has 20.

    >>> turn = np.arange(8) * np.pi / 4
    >>> centers = np.column_stack([7 * np.cos(turn), 7 * np.sin(turn), np.tile([0.0, 5.0], 4)])
    >>> found = compensate("cylinder", centers, tip_radius_mm=3.0, air=-1)
    >>> round(2 * found.surface.radius, 6), found.how
    (20.0, 'fitted, then offset')
    """
    if air not in (1, -1):
        raise FitError("The side of the air is not known.", "The hits are kept.", "Say on which side the tip was.")
    if kind == "ellipse":
        result = fit(kind, centers, criterion, fixed, toward, offset_mm=air * tip_radius_mm)
        return Compensated(result, result.shape, contacts_from_centers(result.shape, centers), "fitted as an offset")
    result = fit(kind, centers, criterion, fixed, toward)
    if kind in ("point", "line"):
        off = -air * tip_radius_mm * _outward(result, toward)
        return Compensated(result, result.shape.slid(off), np.asarray(centers, float) + off, "fitted, then offset")
    try:
        surface = surface_from_centers(result.shape, tip_radius_mm, air)
    except ValueError as error:
        raise FitError(f"The hits make no surface: {error}.", "The hits are kept.", "Look at the tip and the side.") from None
    return Compensated(result, surface, contacts_from_centers(surface, centers), "fitted, then offset")


def _outward(result: FitResult, toward: Array | None) -> Array:
    if result.kind == "line" and result.per_point == 1:
        return result.local.rotation[:, 2]
    if result.kind == "point" and toward is not None:
        return unit(toward)
    needs = "the plane that it lies in" if result.kind == "line" else "the way to the air"
    raise FitError(f"Without {needs} the tip cannot come off a {result.kind}.", "The hits are kept.", f"Give {needs}.")


def surface_from_centers(shape: Any, tip_radius_mm: float, air: int) -> Any:
    """The surface under a shape of tip centers; a plane's normal is turned toward the air.

    Raises ValueError for a shape whose offset is of another kind, or one smaller than the tip.
    """
    return shape.parallel(-air * tip_radius_mm).facing(air)


def contacts_from_centers(surface: Any, centers: Array) -> Array:
    """Points of contact (n, 3): tip centers carried onto the surface along its normal."""
    centers, placed = np.ascontiguousarray(centers, float), Placed.of(surface)
    return centers - placed.residuals(centers)[:, None] * placed.gradients(centers)
