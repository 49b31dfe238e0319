"""Circle, sphere and cylinder by orthogonal distance."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..errors import FitError
from ..frames import Array, Motion, perpendicular_pair, unit
from ..shapes import Circle, Cylinder, Sphere
from .flat import principal_axes
from .geometric import Model, least_squares
from .result import FitResult, spoiling_hit

SEARCH_POINTS = 120  # enough to choose a valley; the descent then uses every point
SEARCH_DIRECTIONS = 160
DESCENTS = 3


def _covariance(jacobian: Array, todo: str) -> Array:
    normal = jacobian.T @ jacobian
    scale = 1 / np.sqrt(np.clip(np.diag(normal), 1e-300, None))
    scaled = normal * np.outer(scale, scale)
    if np.linalg.eigvalsh(scaled)[0] < 1e-13:
        raise FitError("The hits leave part of the shape undetermined.", "The hits are kept.", todo)
    return np.linalg.inv(scaled) * np.outer(scale, scale)


def _arc_warning(angles: Array, u_radius: float) -> tuple[str, ...]:
    """A sentence where the hits span so little of the round that the radius is doubtful."""
    ordered = np.sort(np.mod(angles, 2 * np.pi))
    gaps = np.diff(np.append(ordered, ordered[0] + 2 * np.pi))
    span = np.degrees(2 * np.pi - gaps.max())
    if span >= 90:
        return ()
    known = f"; the radius is known to ±{2 * u_radius:.2g} mm only" if np.isfinite(u_radius) else ""
    return (f"The hits span {span:.0f}° of the round{known}.",)


# ---- circle -------------------------------------------------------------------------


def _algebraic_circles(xy: Array) -> tuple[Array, Array]:
    """Centers (k, 2) and radii (k,) of point sets (k, n, 2) by the algebraic (linear) fit.

    Source: I. Kasa, IEEE Trans. Instrum. Meas. 25 (1976). A start only: it is biased.
    """
    mean = xy.mean(axis=1, keepdims=True)
    rel = xy - mean
    squares = np.einsum("kni,kni->kn", rel, rel)
    design = np.concatenate([rel, np.ones_like(rel[..., :1])], axis=-1)
    normal = np.einsum("kni,knj->kij", design, design)
    size = np.maximum(np.trace(normal, axis1=1, axis2=2), 1e-300)
    normal += 1e-12 * size[:, None, None] * np.eye(3)
    solved = np.linalg.solve(normal, np.einsum("kni,kn->ki", design, squares)[..., None])[..., 0]
    half = solved[:, :2] / 2
    radius = np.sqrt(np.clip(solved[:, 2] + np.einsum("ki,ki->k", half, half), 0, None))
    return half + mean[:, 0], radius


@dataclass(frozen=True)
class _Round:
    """Center and radius, of a circle in its plane or of a sphere."""

    center: Array
    radius: float


def _round_linearise(state: _Round, points: Array) -> tuple[Array, Array]:
    rel = points - state.center
    distance = np.linalg.norm(rel, axis=1)
    outward = rel / np.maximum(distance, 1e-300)[:, None]
    return distance - state.radius, np.column_stack([-outward, -np.ones(len(points))])


def _round_stepped(state: _Round, step: Array) -> _Round:
    return _Round(state.center + step[:-1], state.radius + step[-1])


_ROUND = Model(_round_linearise, _round_stepped)


def fit_circle(points: Array, normal: Array | None = None) -> FitResult:
    """Gaussian circle within a projection plane.

    Parameters
    ----------
    points : (n, 3) array
    normal : (3,) array, optional
        Normal of the projection plane; left out, the plane fitted to the same points is taken.

    Source of the functional model: Gander, Golub, Strebel, BIT 34 (1994).
    """
    center, _, axes = principal_axes(points)
    if normal is None:
        u, v, normal = axes
    else:
        normal = unit(normal)
        u, v = perpendicular_pair(normal)
    rel = points - center
    xy = np.column_stack([rel @ u, rel @ v])
    _, flat_spreads, _ = np.linalg.svd(xy - xy.mean(axis=0), full_matrices=False)
    if flat_spreads[-1] <= max(1e-9 * flat_spreads[0], 1e-12):
        raise FitError(
            "The hits lie on one straight line, which is no circle.",
            "The hits are kept.",
            "Take hits round the edge.",
        )
    start_center, start_radius = _algebraic_circles(xy[None])
    state, residuals, jacobian = least_squares(_ROUND, _Round(start_center[0], float(start_radius[0])), xy)
    covariance = _covariance(jacobian, "Take hits farther round the circle.")
    result = FitResult(
        "circle",
        "gaussian",
        Circle(center + state.center[0] * u + state.center[1] * v, normal, state.radius),
        residuals,
        ("center_u", "center_v", "radius"),
        covariance,
        Motion.from_axes(u, v, normal, center),
        spoiling_hit(residuals, jacobian),
    )
    angles = np.arctan2(*(xy - state.center).T[::-1])
    return _with_warnings(result, _arc_warning(angles, result.u("radius")))


def _with_warnings(result: FitResult, warnings: tuple[str, ...]) -> FitResult:
    object.__setattr__(result, "warnings", result.warnings + warnings)
    return result


# ---- sphere -------------------------------------------------------------------------


def fit_sphere(points: Array) -> FitResult:
    """Gaussian sphere. Parameters: center x, y, z and radius (mm)."""
    center, spreads, _ = principal_axes(points)
    if spreads[2] <= max(1e-9 * spreads[0], 1e-12):
        raise FitError(
            "The hits lie in one plane, so spheres of any size would fit.",
            "The hits are kept.",
            "Take hits at different heights.",
        )
    rel = points - center
    design = np.column_stack([rel, np.ones(len(rel))])
    solved, *_ = np.linalg.lstsq(design, np.einsum("ij,ij->i", rel, rel), rcond=None)
    half = solved[:3] / 2
    start = _Round(half, float(np.sqrt(max(solved[3] + half @ half, 1e-12))))
    state, residuals, jacobian = least_squares(_ROUND, start, rel)
    return FitResult(
        "sphere",
        "gaussian",
        Sphere(center + state.center, state.radius),
        residuals,
        ("center_x", "center_y", "center_z", "radius"),
        _covariance(jacobian, "Take hits farther round the sphere."),
        Motion(np.eye(3), center),
        spoiling_hit(residuals, jacobian),
    )


# ---- cylinder -----------------------------------------------------------------------


@dataclass(frozen=True)
class _Tube:
    """A cylinder: a point on the axis, the axes (u, v, direction) as columns, and the radius."""

    point: Array
    axes: Array
    radius: float


def _tube_linearise(state: _Tube, points: Array) -> tuple[Array, Array]:
    local = (points - state.point) @ state.axes
    across = np.hypot(local[:, 0], local[:, 1])
    safe = np.maximum(across, 1e-300)
    cosine, sine, along = local[:, 0] / safe, local[:, 1] / safe, local[:, 2]
    jacobian = np.column_stack([-cosine, -sine, -cosine * along, -sine * along, -np.ones(len(points))])
    return across - state.radius, jacobian


def _tube_stepped(state: _Tube, step: Array) -> _Tube:
    direction = state.axes @ np.array([step[2], step[3], 1.0])
    direction /= math.sqrt(direction @ direction)
    point = state.point + state.axes[:, 0] * step[0] + state.axes[:, 1] * step[1]
    axes = np.column_stack([*perpendicular_pair(direction), direction])
    return _Tube(point, axes, state.radius + step[4])


_TUBE = Model(_tube_linearise, _tube_stepped)


def _hemisphere(count: int) -> Array:
    """Directions spread evenly over half a sphere (golden spiral)."""
    k = np.arange(count) + 0.5
    z = k / count
    turn = np.pi * (1 + np.sqrt(5)) * k
    across = np.sqrt(1 - z * z)
    return np.column_stack([across * np.cos(turn), across * np.sin(turn), z])


def _tube_starts(points: Array, axes: Array, hint: Array | None) -> list[_Tube]:
    """The best valleys among many axis directions, each judged by the circle it leaves."""
    few = points if len(points) <= SEARCH_POINTS else points[:: len(points) // SEARCH_POINTS]
    directions = np.vstack([axes, _hemisphere(SEARCH_DIRECTIONS)])
    if hint is not None:
        directions = np.vstack([unit(hint), directions])
    frames = np.stack([*perpendicular_pair(directions), directions], axis=-1)
    xy = np.einsum("nj,kji->kni", few, frames[:, :, :2])
    centers, radii = _algebraic_circles(xy)
    errors = np.linalg.norm(xy - centers[:, None], axis=2) - radii[:, None]
    cost = np.einsum("kn,kn->k", errors, errors)
    chosen: list[int] = []
    for k in np.argsort(cost):
        if all(abs(directions[k] @ directions[c]) < 0.95 for c in chosen):
            chosen.append(int(k))
        if len(chosen) == DESCENTS:
            break
    if hint is not None and 0 not in chosen:
        chosen.append(0)
    return [_Tube(frames[k][:, :2] @ centers[k], frames[k], float(radii[k])) for k in chosen]


def fit_cylinder(points: Array, hint: Array | None = None) -> FitResult:
    """Gaussian cylinder.

    Several descents start from the best of many axis directions, and the lowest minimum
    is kept; with five hits several cylinders fit exactly, and ``hint`` (a nominal axis
    direction) settles which is meant.

    Parameters: offsets of the axis along u and v at the middle of the hits (mm), its slopes
    toward u and v (rad), radius (mm).
    """
    center, spreads, axes = principal_axes(points)
    if spreads[2] <= max(1e-9 * spreads[0], 1e-12):
        raise FitError(
            "The hits lie in one plane, so cylinders of many sizes would fit.",
            "The hits are kept.",
            "Take hits at different depths.",
        )
    rel = points - center
    few = rel if len(rel) <= SEARCH_POINTS else rel[:: len(rel) // SEARCH_POINTS]
    best: _Tube | None = None
    best_cost, best_turn = np.inf, -1.0
    for start in _tube_starts(rel, axes, hint):
        try:
            state, residuals, _ = least_squares(_TUBE, start, few)
        except FitError:
            continue
        cost = float(residuals @ residuals)
        turn = float(abs(state.axes[:, 2] @ unit(hint))) if hint is not None else 0.0
        tie = len(points) == 5 and cost < 1e-12 and best_cost < 1e-12
        if (turn > best_turn) if tie else (cost < best_cost):
            best, best_cost, best_turn = state, cost, turn
    if best is None or best.radius > 1e3 * spreads[0]:
        raise FitError(
            "No cylinder settled on these hits.",
            "The hits are kept.",
            "Take hits farther round, at two depths or more.",
        )
    state, residuals, jacobian = least_squares(_TUBE, best, rel)
    # the axis point opposite the middle of the hits: there, offset and tilt are least entangled
    shift = -(state.point @ state.axes[:, 2])
    state = _Tube(state.point + shift * state.axes[:, 2], state.axes, state.radius)
    residuals, jacobian = _tube_linearise(state, rel)
    direction = state.axes[:, 2]
    flip = hint is not None and direction @ unit(hint) < 0
    shape = Cylinder(center + state.point, -direction if flip else direction, state.radius)
    result = FitResult(
        "cylinder",
        "gaussian",
        shape,
        residuals,
        ("offset_u", "offset_v", "slope_u", "slope_v", "radius"),
        _covariance(jacobian, "Take hits farther round, at two depths or more."),
        Motion(state.axes, center + state.point),
        spoiling_hit(residuals, jacobian),
    )
    local = (rel - state.point) @ state.axes
    return _with_warnings(result, _arc_warning(np.arctan2(local[:, 1], local[:, 0]), result.u("radius")))
