"""The one door to the fits: ``fit(kind, points)``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from ..errors import FitError
from ..frames import Array
from .extreme import fit_extreme
from .flat import fit_line, fit_plane, fit_point
from .result import FitResult
from .solid import fit_solid

LEAST = {
    "point": 1, "line": 2, "plane": 3, "circle": 3, "arc": 3, "ellipse": 5, "round_slot": 5, "square_slot": 5,
    "sphere": 4, "cylinder": 5, "cone": 6, "torus": 7,
}  # fmt: skip
KINDS = tuple(LEAST)
_ROUND = ("circle", "arc", "sphere", "cylinder")
CRITERIA = {
    "gaussian": KINDS,
    "chebyshev": ("plane", *_ROUND),
    "inscribed": _ROUND,
    "circumscribed": _ROUND,
    "tangent": ("plane",),
}
FIXED = {
    "circle": {"radius", "normal", "plane"},
    "arc": {"radius", "normal", "plane"},
    "ellipse": {"semi_major", "semi_minor", "normal", "plane"},
    "round_slot": {"length", "width", "normal", "plane"},
    "square_slot": {"length", "width", "normal", "plane"},
    "sphere": {"radius"},
    "cylinder": {"radius", "direction"},
    "cone": {"half_angle", "direction"},
    "torus": {"major_radius", "minor_radius", "normal"},
}


def fit(
    kind: str,
    points: ArrayLike,
    criterion: str = "gaussian",
    fixed: Mapping[str, Any] | None = None,
    toward: Array | None = None,
) -> FitResult:
    """Fit a shape to points by orthogonal distance.

    Parameters
    ----------
    kind : one of KINDS
        An arc is a circle of which only a part was touched.
    points : (n, 3) array, mm
    criterion : one of CRITERIA
        gaussian: least sum of squared distances (ISO 14405-1: least squares). chebyshev: the
        least largest distance (minimum zone). inscribed, circumscribed: the largest that all
        hits lie outside of, the smallest that they lie inside of. tangent: the plane on the
        side of ``toward`` that no hit stands out of, nearest to them all.
    fixed : parameters that are held, by name (see FIXED): a known radius, a given axis
        ``direction``, the ``normal`` of the projection plane, or a ``plane`` to lie in.
    toward : (3,) array
        A direction to whose side a plane's normal, or an axis, is turned. Where few hits
        allow several shapes, the one whose axis is nearest to it is taken.

    Returns
    -------
    FitResult

    Raises
    ------
    FitError
        Too few points, points that coincide or lie so that the shape is not determined,
        NaN or infinite values, or an unknown kind, criterion or fixed parameter.
    """
    fixed = dict(fixed or {})
    array = _checked(kind, points, criterion, fixed)
    kind = "circle" if kind == "arc" else kind
    if kind == "point":
        return fit_point(array)
    if kind == "line":
        return fit_line(array)
    result = fit_plane(array, toward) if kind == "plane" else fit_solid(kind, array, fixed, toward)
    return result if criterion == "gaussian" else fit_extreme(result, criterion, array, frozenset(fixed))


def _checked(kind: str, points: ArrayLike, criterion: str, fixed: dict[str, Any]) -> Array:
    if kind not in LEAST:
        raise FitError(f"There is no fit for “{kind}”.", "Nothing was changed.", f"Choose one of {', '.join(KINDS)}.")
    if kind not in CRITERIA.get(criterion, ()):
        there = ", ".join(name for name, kinds in CRITERIA.items() if kind in kinds)
        raise FitError(f"The criterion “{criterion}” is not there for a {kind}.", "Nothing was changed.", f"Use {there}.")
    unknown = set(fixed) - FIXED.get(kind, set())
    if unknown:
        known = ", ".join(sorted(FIXED.get(kind, set()))) or "nothing"
        raise FitError(f"A {kind} has no “{sorted(unknown)[0]}” to hold.", "Nothing was changed.", f"It can hold: {known}.")
    array = np.asarray(points, float)
    if array.ndim != 2 or array.shape[1] != 3:
        raise FitError("Points are three numbers each.", "Nothing was changed.", "Give x, y, z for every point.")
    if not np.all(np.isfinite(array)):
        bad = int(np.flatnonzero(~np.isfinite(array).all(axis=1))[0])
        raise FitError(f"Point {bad + 1} is not a number.", "Nothing was changed.", "Set that point aside and try again.")
    least = max(1, LEAST[kind] - len(set(fixed) & {"radius", "half_angle", "major_radius", "minor_radius"}))
    if "direction" in fixed:
        least = max(1, least - 2)
    if len(array) < least:
        raise FitError(
            f"A {kind} needs {least} hits at least; there {'is' if len(array) == 1 else 'are'} {len(array)}.",
            "The hits are kept.",
            f"Take {least - len(array)} more.",
        )
    if kind != "point" and np.ptp(array, axis=0).max() < 1e-9:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take hits apart from one another.")
    return array
