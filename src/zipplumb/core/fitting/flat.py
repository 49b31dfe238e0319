"""Line and plane by orthogonal regression (singular values).

Source: K. Pearson, "On lines and planes of closest fit", Phil. Mag. 2 (1901).
"""

from __future__ import annotations

import numpy as np

from ..errors import FitError
from ..frames import Array, Motion
from ..shapes import Line, Plane, Point
from .result import FitResult, unit_covariance

THIN = 1e-9  # spread, relative to the longest, below which points count as one line


def principal_axes(points: Array) -> tuple[Array, Array, Array]:
    """Centroid, spreads (3,) falling, and axes (3, 3) as rows, right-handed."""
    center = points.mean(axis=0)
    rel = points - center
    if len(points) <= 200:  # singular values keep digits that the scatter matrix squares away
        _, spreads, axes = np.linalg.svd(rel, full_matrices=len(points) < 3)
        spreads = np.concatenate([spreads, np.zeros(3 - len(spreads))])
    else:
        r = np.linalg.qr(rel, mode="r")
        _, spreads, axes = np.linalg.svd(r)
    if np.linalg.det(axes) < 0:
        axes = axes * np.array([[1.0], [1.0], [-1.0]])
    return center, spreads, axes


def fit_point(points: Array) -> FitResult:
    """The middle of hits on one place. Residuals are distances (not signed)."""
    center = points.mean(axis=0)
    return FitResult(
        "point", "gaussian", Point(center), np.linalg.norm(points - center, axis=1), ("x", "y", "z"),
        np.empty((0, 3)), np.eye(3) / len(points), Motion(np.eye(3), center), per_point=3,
    )  # fmt: skip


def fit_plane(points: Array, toward: Array | None = None) -> FitResult:
    """Gaussian plane. Parameters: shift ``z`` along the normal (mm), turns ``rx``, ``ry`` (rad).

    ``toward``: a direction to whose side the normal is turned; left out, its greatest component
    is positive.
    """
    center, spreads, axes = principal_axes(points)
    if spreads[1] <= max(THIN * spreads[0], 1e-12):
        raise FitError(
            "The hits lie on one line, so any plane through it would fit.",
            "The hits are kept.",
            "Take a hit well off that line.",
        )
    u, v, normal = axes
    if toward is None:  # the order of the points must not choose the side
        toward = np.eye(3)[np.argmax(np.abs(normal))]
    if normal @ toward < 0:
        u, v, normal = v, u, -normal
    rel = points - center
    jacobian = -np.column_stack([np.ones(len(points)), rel @ v, -(rel @ u)])
    warnings: tuple[str, ...] = ()
    if spreads[1] < 0.02 * spreads[0] and len(points) > 3:
        warnings = ("The hits lie nearly on one line: the tilt about it is poorly known.",)
    covariance = unit_covariance(jacobian)
    return FitResult(
        "plane", "gaussian", Plane(center, normal), rel @ normal, ("z", "rx", "ry"), jacobian,
        np.full((3, 3), np.inf) if covariance is None else covariance, Motion.from_axes(u, v, normal, center), warnings,
    )  # fmt: skip


def fit_line(points: Array) -> FitResult:
    """Gaussian line in space; residuals are distances (not signed).

    Parameters: shifts ``x``, ``y`` across it at the middle (mm), turns ``rx``, ``ry`` (rad).
    """
    center, spreads, axes = principal_axes(points)
    if spreads[0] <= 1e-12:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take a hit farther along the line.")
    direction, u, v = axes
    rel = points - center
    along = rel @ direction
    covariance = np.diag([1 / len(points)] * 2 + [1 / (along @ along)] * 2)
    return FitResult(
        "line", "gaussian", Line(center, direction), np.hypot(rel @ u, rel @ v), ("x", "y", "rx", "ry"),
        np.empty((0, 4)), covariance, Motion.from_axes(u, v, direction, center), per_point=2,
    )  # fmt: skip
