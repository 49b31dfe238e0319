"""The circle through the centers of a pattern of holes, and how far each is from its place on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..fitting import fit
from ..frames import Array
from ..shapes import Circle


@dataclass(frozen=True, eq=False)
class BoltCircle:
    """``circle``: through the centers. Of each hole, in the order given: ``radial_mm`` (n,), + farther out than the circle;
    ``along_mm`` (n,) on the circle from its place in the even division, + counterclockwise as seen from +Z."""

    circle: Circle
    radial_mm: Array
    along_mm: Array


def bolt_circle(centers: Array, count: int | None = None) -> BoltCircle:
    """The bolt circle of holes that divide it evenly.

    Parameters
    ----------
    centers : (n, 3) in any order; each takes the nearest place of the even division, which is turned to fit them all best
    count : places of the full pattern, where some holes were not measured; all were by default

    Raises
    ------
    DeriveError
        Fewer than three holes, or two at one place.

    Examples
    --------
    Five of six holes, of which the last lies 0.1 too far out:

    >>> turn = np.radians([0, 60, 120, 240, 180])
    >>> holes = np.column_stack([40 * np.cos(turn), 40 * np.sin(turn), np.zeros(5)])
    >>> holes[-1] *= 40.1 / 40
    >>> found = bolt_circle(holes, count=6)
    >>> int(np.argmax(found.radial_mm)), bool(abs(found.circle.radius - 40) < 0.05)
    (4, True)
    """
    kept = "The holes are kept."
    if len(centers) < 3:
        raise DeriveError("A bolt circle needs three holes.", kept, "Choose more holes.")
    count = count or len(centers)
    if count < len(centers):
        raise DeriveError(f"{len(centers)} holes cannot share {count} places.", kept, "Correct the number.")
    found = fit("circle", centers)
    rel = found.local.inverse().points(centers)[:, :2]
    seen_from = 1.0 if found.local.rotation[2, 2] >= 0 else -1.0
    angles = seen_from * np.arctan2(rel[:, 1], rel[:, 0])
    places = _places(angles, count)
    if len(set(places.tolist())) < len(centers):
        raise DeriveError("Two holes lie nearest to one place of an even division.", kept, "Give the number of places.")
    off = _wrapped(angles - places * 2 * np.pi / count)
    off = _wrapped(off - np.angle(np.exp(1j * off).sum()))
    return BoltCircle(found.shape, found.residuals, off * found.shape.radius)


def _wrapped(angle: Array) -> Array:
    return (angle + np.pi) % (2 * np.pi) - np.pi


def _places(angles: Array, count: int) -> Array:
    """Number (n,) of each hole's place, the division turned to where most holes agree."""
    turned = np.angle(np.exp(1j * angles * count).sum()) / count
    return np.round((angles - turned) * count / (2 * np.pi)).astype(int) % count
