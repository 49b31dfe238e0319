"""The fits: ``fit(kind, points)``."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from .. import kernels
from ..errors import FitError
from ..frames import Array
from .extreme import fit_extreme
from .flat import fit_line, fit_plane, fit_point
from .held import HeldParameters, word
from .outline import fit_outline
from .result import FitResult
from .rivals import Meant
from .solid import fit_solid

LEAST = {
    "point": 1, "line": 2, "plane": 3, "circle": 3, "arc": 3, "ellipse": 5, "round_slot": 5, "square_slot": 5,
    "sphere": 4, "cylinder": 5, "cone": 6, "torus": 7,
}  # fmt: skip
RECOMMENDED = {
    "line": 5, "plane": 9, "circle": 7, "arc": 5, "ellipse": 8, "round_slot": 10, "square_slot": 10, "sphere": 9,
    "cylinder": 12, "cone": 12, "torus": 16,
}  # fmt: skip
FITS = tuple(LEAST)
_ROUND = ("circle", "sphere", "cylinder")
CRITERIA = {
    "gaussian": FITS,
    "chebyshev": ("line", "plane", "arc", *_ROUND),
    "inscribed": _ROUND,
    "circumscribed": _ROUND,
    "tangent": ("line", "plane"),
}
OUTLINES = ("circle", "arc", "ellipse", "round_slot", "square_slot")


def fit(
    kind: str,
    points: ArrayLike,
    criterion: str = "gaussian",
    fixed: Mapping[str, Any] | None = None,
    toward: Array | None = None,
    u_hits_mm: ArrayLike | None = None,
    offset_mm: float = 0.0,
    thorough: bool = True,
    meant: Meant | None = None,
) -> FitResult:
    """Fit a shape to points by orthogonal distance.

    Parameters
    ----------
    kind : one of FITS
        An arc is a circle of which only a part was touched.
    points : (n, 3) array, mm
    criterion : one of CRITERIA
        gaussian: least sum of squared distances (ISO 14405-1: least squares). chebyshev: the
        least largest distance (minimum zone). inscribed, circumscribed: the largest that all
        hits lie outside of, the smallest that they lie inside of. tangent: the plane, or the
        line in its plane, that no hit stands out of on the side of ``toward``, nearest to them all.
    fixed : parameters that are held, by name (see held.FIXED): a known size, a ``direction`` or
        ``normal``, a ``center``, ``point`` or ``apex``; for 2D shapes and lines the ``plane`` to
        lie in (a Plane, or the FitResult of a measured one). Left out, it is fitted to the hits.
    toward : (3,) array
        A direction to whose side a normal, or an axis, is turned. Where few hits allow several
        shapes, the one whose axis is nearest to it is taken.
    u_hits_mm : standard uncertainty of the hits, where it is known
        One number, (n,) numbers, or covariances (n, 3, 3); the covariance then comes from it
        and not from the residuals. The fit itself stays unweighted.
    offset_mm : distance from the shape at which the hits lie, for tip centers whose shape is not
        of the same kind as the surface (an ellipse). Not for points and lines in space.
    thorough : where the first look is doubtful, look everywhere. Left to False by who asks at every hit.
    meant : what is known of it besides, by which it is chosen where few hits lie on several shapes of the kind; left out,
        ``toward`` decides. Of cylinder, cone and torus.

    Returns
    -------
    FitResult

    Raises
    ------
    FitError
        Too few points, points that coincide or lie so that the shape is not determined,
        NaN or infinite values, or an unknown kind, criterion or fixed parameter.

    Examples
    --------
    A bore of diameter 20, touched at two heights:

    >>> turn = np.arange(8) * np.pi / 4
    >>> hits = np.column_stack([50 + 10 * np.cos(turn), 30 + 10 * np.sin(turn), np.tile([0.0, -8.0], 4)])
    >>> found = fit("cylinder", hits, toward=np.array([0, 0, 1.0]))
    >>> round(2 * found.shape.radius, 6), bool(np.allclose(found.shape.direction, [0, 0, 1]))
    (20.0, True)
    >>> bool(found.form < 1e-9)
    True
    """
    array = _checked(kind, points, criterion)
    held = HeldParameters.of(kind, fixed or {})
    _enough(kind, array, held)
    u_hits = _uncertainty(u_hits_mm, len(array))
    result = _gaussian(kind, array, held, toward, offset_mm, thorough, meant)
    if u_hits is not None:
        plane = result.lies_in
        if plane is not None and plane.points is result.points:  # fitted to the same hits
            plane = replace(plane, u_hits_mm=u_hits)
        result = replace(result, u_hits_mm=u_hits, lies_in=plane)
    return result if criterion == "gaussian" else fit_extreme(result, criterion, held)


def _gaussian(
    kind: str, array: Array, held: HeldParameters, toward: Array | None, offset_mm: float, thorough: bool, meant: Meant | None
) -> FitResult:
    if kind in OUTLINES:
        return fit_outline(kind, array, held, toward, offset_mm)
    if kind not in ("point", "line", "plane"):
        return fit_solid(kind, array, held, toward, offset_mm, thorough, meant)
    if offset_mm:
        raise FitError(f"A {kind} takes no offset.", "The hits are kept.", "Move the fitted shape instead.")
    if kind == "point":
        return fit_point(array)
    return fit_line(array, held, toward) if kind == "line" else fit_plane(array, held, toward)


def _checked(kind: str, points: ArrayLike, criterion: str) -> Array:
    if kind not in LEAST:
        raise FitError(f"There is no fit for “{kind}”.", "Nothing was changed.", f"Choose one of {', '.join(FITS)}.")
    if kind not in CRITERIA.get(criterion, ()):
        there = ", ".join(name for name, kinds in CRITERIA.items() if kind in kinds)
        raise FitError(f"The criterion “{criterion}” is not there for a {word(kind)}.", "Nothing was changed.", f"Use {there}.")
    try:
        array = np.ascontiguousarray(points, float)
    except (TypeError, ValueError):
        array = np.empty(0)
    if array.ndim != 2 or array.shape[1] != 3:
        raise FitError("Points are three numbers each.", "Nothing was changed.", "Give x, y, z for every point.")
    if not len(array):
        return array
    bad, widest, largest = kernels.first_bad(array)
    if bad >= 0:
        raise FitError(f"Point {bad + 1} is not a number.", "Nothing was changed.", "Set that point aside and try again.")
    if largest > 1e9:
        raise FitError("The hits lie farther out than any part.", "The hits are kept.", "Look at the unit of the file.")
    if kind != "point" and len(array) >= LEAST[kind] and widest < 1e-9:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take hits apart from one another.")
    return array


def _enough(kind: str, array: Array, held: HeldParameters) -> None:
    least = max(1, LEAST[kind] - held.count("circle" if kind == "arc" else kind))
    if len(array) < least:
        raise FitError(
            f"A {word(kind)} needs {least} hits at least; there {'is' if len(array) == 1 else 'are'} {len(array)}.",
            "The hits are kept.",
            f"Take {least - len(array)} more.",
        )


def _uncertainty(u_hits_mm: ArrayLike | None, count: int) -> Array | None:
    if u_hits_mm is None:
        return None
    u = np.asarray(u_hits_mm, float)
    right = u.shape in ((), (count,), (count, 3, 3)) and bool(np.all(np.isfinite(u)))
    if not right or (u.ndim < 3 and np.any(u < 0)) or (u.ndim == 3 and np.linalg.eigvalsh(u).min() < -1e-12):
        raise FitError(
            "The hits' uncertainty must be one number, one for each hit, or a covariance matrix for each.",
            "The hits are kept.",
            "Give standard uncertainties in mm.",
        )
    return u
