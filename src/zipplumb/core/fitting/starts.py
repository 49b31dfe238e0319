"""Where the descents begin: closed forms where there are any, otherwise many axis directions.

Points come centered on their mean. For a cylinder, cone or torus every direction of a dense
half sphere is judged at once by what it leaves of the points; the descents then start from
the best few that differ.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..frames import Array, perpendicular_pair, unit
from .descent import Placed

FEW = 48  # points that are enough to choose a valley
UPRIGHT = np.eye(3)


def thinned(points: Array, count: int = FEW) -> Array:
    """At most ``count`` points, evenly taken."""
    if len(points) <= count:
        return points
    return points[np.linspace(0, len(points) - 1, count).astype(int)]


def half_sphere(count: int) -> Array:
    """Directions spread evenly over half a sphere (golden spiral)."""
    k = np.arange(count) + 0.5
    z = k / count
    turn = np.pi * (1 + np.sqrt(5)) * k
    across = np.sqrt(1 - z * z)
    return np.column_stack([across * np.cos(turn), across * np.sin(turn), z])


COARSE, FINE = half_sphere(40), half_sphere(200)


def algebraic_circles(x: Array, y: Array) -> tuple[Array, Array, Array]:
    """Centers (k,), (k,) and radii (k,) of point sets (k, n) by the linear fit.

    Source: I. Kasa, IEEE Trans. Instrum. Meas. 25 (1976). A start only: it is biased.
    """
    mx, my = x.mean(axis=1, keepdims=True), y.mean(axis=1, keepdims=True)
    u, v = x - mx, y - my
    uu, vv, uv = (u * u).mean(axis=1), (v * v).mean(axis=1), (u * v).mean(axis=1)
    square = u * u + v * v
    du, dv = (u * square).mean(axis=1) / 2, (v * square).mean(axis=1) / 2
    det = uu * vv - uv * uv
    det = np.where(det > 1e-12 * (uu + vv) ** 2, det, np.inf)
    a, b = (du * vv - dv * uv) / det, (dv * uu - du * uv) / det
    return a + mx[:, 0], b + my[:, 0], np.sqrt(a * a + b * b + uu + vv)


def _turned(points: Array, directions: Array) -> tuple[Array, Array, Array, Array]:
    """Coordinates (k, n) of the points in axes whose z is each direction, and the axes (k, 3, 3)."""
    axes = np.stack([*perpendicular_pair(directions), directions], axis=-1)
    turned = np.tensordot(axes, points, axes=(1, 1))  # (k, 3, n)
    return turned[:, 0], turned[:, 1], turned[:, 2], axes


def _tubes(x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
    """Cost, center (k, 3) and sizes (k, 1) of the best cylinder along each z."""
    a, b, r = algebraic_circles(x, y)
    off = np.hypot(x - a[:, None], y - b[:, None]) - r[:, None]
    return (off * off).sum(axis=1), np.stack([a, b, np.zeros_like(a)], axis=1), r[:, None]


def _cones(x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
    """As for cylinders, with the radius a straight line along z."""
    a, b, _ = algebraic_circles(x, y)
    across = np.hypot(x - a[:, None], y - b[:, None])
    mz, mr = z.mean(axis=1, keepdims=True), across.mean(axis=1, keepdims=True)
    slope = ((z - mz) * (across - mr)).sum(axis=1) / np.maximum(((z - mz) ** 2).sum(axis=1), 1e-300)
    radius = mr[:, 0] - slope * mz[:, 0]
    half_angle = np.arctan(slope)
    off = (across - radius[:, None] - slope[:, None] * z) * np.cos(half_angle)[:, None]
    sizes = np.stack([radius, half_angle], axis=1)
    return (off * off).sum(axis=1), np.stack([a, b, np.zeros_like(a)], axis=1), sizes


def _tori(x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
    """Center by the circle fit seen along z, then the tube's circle in the half plane."""
    a, b, _ = algebraic_circles(x, y)
    across = np.hypot(x - a[:, None], y - b[:, None])
    major, height, minor = algebraic_circles(across, z)
    off = np.hypot(across - major[:, None], z - height[:, None]) - minor[:, None]
    return (off * off).sum(axis=1), np.stack([a, b, height], axis=1), np.stack([major, minor], axis=1)


JUDGES: dict[str, Callable[[Array, Array, Array], tuple[Array, Array, Array]]] = {
    "cylinder": _tubes,
    "cone": _cones,
    "torus": _tori,
}


def axis_starts(kind: str, points: Array, directions: Array, count: int) -> list[Placed]:
    """The best starts of a kind among axis directions, each unlike the others."""
    x, y, z, axes = _turned(points, directions)
    cost, centers, sizes = JUDGES[kind](x, y, z)
    cost = np.where(np.isfinite(cost), cost, np.inf)
    chosen: list[int] = []
    for k in np.argsort(cost).tolist():
        if all(abs(directions[k] @ directions[c]) < 0.97 for c in chosen):
            chosen.append(k)
        if len(chosen) == count:
            break
    return [Placed(axes[k] @ centers[k], axes[k], sizes[k].copy()) for k in chosen]


def directions_of(axes: Array, dense: bool, given: Array | None) -> Array:
    """Axis directions to be judged: one that is given, or the principal axes and a half sphere."""
    if given is not None:
        return unit(given)[None]
    return np.vstack([axes, FINE if dense else COARSE])


# ---- 2D, in the projection plane's own axes (z is left aside) -----------------------------


def circle_start(points: Array) -> Placed:
    a, b, r = algebraic_circles(points[None, :, 0], points[None, :, 1])
    return Placed(np.array([a[0], b[0], 0.0]), UPRIGHT, r)


def ellipse_start(points: Array) -> Placed | None:
    """Direct least squares of an ellipse.

    Source: Halir and Flusser, "Numerically stable direct least squares fitting of ellipses"
    (WSCG 1998).
    """
    size = np.abs(points[:, :2]).max()
    x, y = points[:, 0] / size, points[:, 1] / size
    d1, d2 = np.column_stack([x * x, x * y, y * y]), np.column_stack([x, y, np.ones_like(x)])
    s1, s2, s3 = d1.T @ d1, d1.T @ d2, d2.T @ d2
    t = -np.linalg.solve(s3, s2.T)
    m = s1 + s2 @ t
    m = np.array([m[2] / 2, -m[1], m[0] / 2])
    _, vectors = np.linalg.eig(m)
    vectors = np.real(vectors)
    condition = 4 * vectors[0] * vectors[2] - vectors[1] ** 2
    if not np.any(condition > 0):
        return None
    first = vectors[:, np.argmax(condition > 0)]
    a, b, c = first
    d, e, f = t @ first
    x0, y0 = np.linalg.solve([[2 * a, b], [b, 2 * c]], [-d, -e])
    level = -(f + (d * x0 + e * y0) / 2)
    values, axes = np.linalg.eigh(np.array([[a, b / 2], [b / 2, c]]) / level)
    if np.any(values <= 0):
        return None
    turned = np.eye(3)
    turned[:2, :2] = axes if np.linalg.det(axes) > 0 else axes * [1, -1]
    return Placed(np.array([x0 * size, y0 * size, 0.0]), turned, size / np.sqrt(values))


def slot_starts(points: Array) -> list[Placed]:
    """Boxes round the points, turned in steps; the longer side is the length."""
    starts = []
    for angle in np.linspace(0, np.pi, 24, endpoint=False):
        axes = np.eye(3)
        axes[:2, :2] = [[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]
        p = points @ axes
        low, high = p[:, :2].min(axis=0), p[:, :2].max(axis=0)
        length, width = high - low
        if length >= width > 0:
            middle = np.array([*(low + high) / 2, 0.0])
            starts.append(Placed(axes @ middle, axes, np.array([length, width])))
    return starts


def sphere_start(points: Array) -> Placed:
    """The linear fit of |p|² = 2 c·p + d."""
    design = np.column_stack([points, np.ones(len(points))])
    solved, *_ = np.linalg.lstsq(design, np.einsum("ij,ij->i", points, points), rcond=None)
    half = solved[:3] / 2
    return Placed(half, UPRIGHT, np.array([np.sqrt(max(solved[3] + half @ half, 1e-12))]))
