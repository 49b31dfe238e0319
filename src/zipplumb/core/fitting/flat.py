"""Line and plane by orthogonal regression (singular values).

Source: K. Pearson, "On lines and planes of closest fit", Phil. Mag. 2 (1901).
"""

from __future__ import annotations

import numpy as np

from ..errors import FitError
from ..frames import Array, Motion
from ..shapes import Line, Plane
from .result import FitResult, spoiling_hit

THIN = 1e-9  # spread, relative to the longest, below which points count as one line


def principal_axes(points: Array) -> tuple[Array, Array, Array]:
    """Centroid, spreads (3,) falling, and axes (3, 3) as rows, right-handed."""
    center = points.mean(axis=0)
    scatter = (points - center).T @ (points - center)
    if len(points) <= 10_000:  # singular values keep digits that the scatter matrix squares away
        _, spreads, axes = np.linalg.svd(points - center, full_matrices=len(points) < 3)
        spreads = np.concatenate([spreads, np.zeros(3 - len(spreads))])
    else:
        values, vectors = np.linalg.eigh(scatter)
        spreads, axes = np.sqrt(np.clip(values[::-1], 0, None)), vectors.T[::-1]
    if np.linalg.det(axes) < 0:
        axes = axes * np.array([[1.0], [1.0], [-1.0]])
    return center, spreads, axes


def fit_plane(points: Array, toward: Array | None = None) -> FitResult:
    """Gaussian plane. Parameters: offset along the normal (mm), tilt about u and v (rad).

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
    residuals = rel @ normal
    jacobian = -np.column_stack([np.ones(len(points)), rel @ v, -(rel @ u)])
    local = Motion.from_axes(u, v, normal, center)
    warnings: tuple[str, ...] = ()
    if spreads[1] < 0.02 * spreads[0] and len(points) > 3:
        warnings = ("The hits lie nearly on one line: the tilt about it is poorly known.",)
    return FitResult(
        "plane",
        "gaussian",
        Plane(center, normal),
        residuals,
        ("offset", "tilt_u", "tilt_v"),
        np.linalg.inv(jacobian.T @ jacobian),
        local,
        spoiling_hit(residuals, jacobian),
        warnings,
    )


def fit_line(points: Array) -> FitResult:
    """Gaussian line in space; residuals are distances (not signed).

    Parameters: offsets along u and v at the middle (mm), slopes toward u and v (rad).
    """
    center, spreads, axes = principal_axes(points)
    if spreads[0] <= 1e-12:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take a hit farther along the line.")
    direction, u, v = axes
    rel = points - center
    residuals = np.hypot(rel @ u, rel @ v)
    along = rel @ direction
    half = np.diag([1 / len(points), 1 / (along @ along)])
    covariance = np.kron(half, np.eye(2)).astype(float)
    return FitResult(
        "line",
        "gaussian",
        Line(center, direction),
        residuals,
        ("offset_u", "offset_v", "slope_u", "slope_v"),
        covariance,
        Motion.from_axes(u, v, direction, center),
    )
