"""The one door to the fits: ``fit(kind, points)``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from ..errors import FitError
from .flat import fit_line, fit_plane
from .result import FitResult
from .round import fit_circle, fit_cylinder, fit_sphere

LEAST = {"line": 2, "plane": 3, "circle": 3, "sphere": 4, "cylinder": 5}
KINDS = tuple(LEAST)
_FITS = {"line": fit_line, "plane": fit_plane, "circle": fit_circle, "sphere": fit_sphere, "cylinder": fit_cylinder}


def fit(kind: str, points: ArrayLike, criterion: str = "gaussian", hint: dict[str, Any] | None = None) -> FitResult:
    """Fit a shape to points by orthogonal distance.

    Parameters
    ----------
    kind : one of KINDS
    points : (n, 3) array, mm
    criterion : "gaussian"
        Least sum of squared distances (ISO 14405-1: least squares).
    hint : dict, optional
        What is known beforehand, by the fit's own argument: ``toward`` for a plane's side,
        ``normal`` of a circle's projection plane, ``hint`` for a cylinder's axis direction.

    Returns
    -------
    FitResult

    Raises
    ------
    FitError
        Too few points, points that coincide or lie so that the shape is not determined,
        NaN or infinite values, or an unknown kind or criterion.
    """
    if kind not in LEAST:
        raise FitError(f"There is no fit for “{kind}”.", "Nothing was changed.", f"Choose one of {', '.join(KINDS)}.")
    if criterion != "gaussian":
        raise FitError(f"The criterion “{criterion}” is not there for a {kind}.", "Nothing was changed.", "Use gaussian.")
    array = np.asarray(points, float)
    if array.ndim != 2 or array.shape[1] != 3:
        raise FitError("Points are three numbers each.", "Nothing was changed.", "Give x, y, z for every point.")
    if not np.all(np.isfinite(array)):
        bad = int(np.flatnonzero(~np.isfinite(array).all(axis=1))[0])
        raise FitError(f"Point {bad + 1} is not a number.", "Nothing was changed.", "Set that point aside and try again.")
    least = LEAST[kind]
    if len(array) < least:
        raise FitError(
            f"A {kind} needs {least} hits at least; there {'is' if len(array) == 1 else 'are'} {len(array)}.",
            "The hits are kept.",
            f"Take {least - len(array)} more.",
        )
    if np.ptp(array, axis=0).max() < 1e-9:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take hits apart from one another.")
    return _FITS[kind](array, **(hint or {}))
