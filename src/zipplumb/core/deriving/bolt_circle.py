"""The circle through the centers of a pattern of holes, and how far each is from its place on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..fitting import FitResult, fit
from ..frames import Array
from ..shapes import Circle

MOST_PLACES, NEARLY = 120, 0.02


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
    places, off = _divided(_angles(found, centers), count)
    if len(set(places.tolist())) < len(centers):
        raise DeriveError("Two holes lie nearest to one place of an even division.", kept, "Give the number of places.")
    return BoltCircle(found.shape, found.residuals, off * found.shape.radius)


def division_of(centers: Array) -> int:
    """How many places the pattern has of which these are some holes.

    An even division in which each hole (n, 3) has a place of its own and lies within a fiftieth of the pitch of it: the one
    that does so best, of those that are not another over again; as many as there are holes where none does.

    >>> turn = np.radians([0, 30, 60, 90, 120, 210, 330])  # 7 of 12
    >>> division_of(np.column_stack([40 * np.cos(turn), 40 * np.sin(turn), np.zeros(7)]))
    12
    """
    if len(centers) < 3:
        return len(centers)
    angles = _angles(fit("circle", centers), centers)
    shares: dict[int, float] = {}  # of the pitch that the farthest hole is off
    for count in range(len(centers), MOST_PLACES + 1):
        if shares and count >= 2 * min(shares):
            break  # from there on divisions come again
        places, off = _divided(angles, count)
        share = float(np.abs(off).max()) * count / (2 * np.pi)
        if len(set(places.tolist())) == len(centers) and share < NEARLY:
            shares[count] = share
    return min(shares, key=shares.__getitem__, default=len(centers))


def _angles(found: FitResult, centers: Array) -> Array:
    """(n,) of each hole about the circle, counterclockwise as seen from +Z."""
    rel = found.local.inverse().points(centers)[:, :2]
    seen_from = 1.0 if found.local.rotation[2, 2] >= 0 else -1.0
    return seen_from * np.arctan2(rel[:, 1], rel[:, 0])


def _divided(angles: Array, count: int) -> tuple[Array, Array]:
    """Number of each hole's place, and how far it is off that, rad, the division turned to fit all best."""
    places = _places(angles, count)
    off = _wrapped(angles - places * 2 * np.pi / count)
    return places, _wrapped(off - np.angle(np.exp(1j * off).sum()))


def _wrapped(angle: Array) -> Array:
    return (angle + np.pi) % (2 * np.pi) - np.pi


def _places(angles: Array, count: int) -> Array:
    """Number (n,) of each hole's place, the division turned to where most holes agree."""
    turned = np.angle(np.exp(1j * angles * count).sum()) / count
    return np.round((angles - turned) * count / (2 * np.pi)).astype(int) % count
