"""Starting values for fits of cylinder, cone and torus where the usual ones fail.

Along a given axis the equations of a cylinder and a cone are linear in their other parameters, so every
direction has its best shape at once. A short piece of a torus looks like a cylinder that is bent a little: to
which side, and how much, is tried.
"""

from __future__ import annotations

from functools import cache

import numpy as np

from ..frames import Array, cross
from ..kernels import basis
from .held import HeldParameters
from .placed import Placed

FOLLOWED = 24  # starts from which the descent begins
UNLIKE, OTHERS = np.cos(np.radians(12)), 12  # of axes that may lead to other valleys, and how many of them are followed
TUBES = 5
WREATH_STEPS, HALFWAY = 8, 0.5  # by which a wreath is bettered, and how far at once, by its ring
BENDS = 16  # ways in which a tube may be bent
RINGS = (1.2, 2.0, 3.5, 6.0, 12.0, 30.0)  # radius of the ring by that of the tube, or by the reach


def half_sphere(count: int) -> Array:
    """Directions spread evenly over half a sphere (golden spiral)."""
    k = np.arange(count) + 0.5
    z = k / count
    turn = np.pi * (1 + np.sqrt(5)) * k
    across = np.sqrt(1 - z * z)
    return np.column_stack([across * np.cos(turn), across * np.sin(turn), z])


DIRECTIONS = half_sphere(600)
CLOSE = half_sphere(4000)[-300:]  # near a direction, closer together: a flat cone has its axis near there


@cache
def _all_round() -> Array:
    """(600, 3, 3) axes, each with one of the directions as its third."""
    return np.array([basis(np.ascontiguousarray(d)) for d in DIRECTIONS])


def elsewhere(kind: str, few: Array, held: HeldParameters, spot: Array | None, offset: float) -> list[Placed]:
    """The likeliest starts; ``few``: (n, 3) hits about their middle."""
    starts = []
    for placed in {"cylinder": _tubes, "cone": _cones, "torus": _rings}[kind](few, FOLLOWED):
        sizes = placed.sizes.copy()
        if kind != "cone":
            sizes[1 if kind == "torus" else 0] -= offset
        for k, given in enumerate(held.two_sizes(kind)):
            sizes[k] = sizes[k] if np.isnan(given) else given
        starts.append(Placed(kind, placed.origin if spot is None else spot, placed.axes, sizes))
    return starts


def _frames(few: Array) -> Array:
    """Axes (m, 3, 3) all round, and closer together about the directions in which the hits spread most and least."""
    _, _, rows = np.linalg.svd(few, full_matrices=True)
    near = np.vstack([CLOSE @ basis(np.ascontiguousarray(rows[k])).T for k in (0, 2)])
    return np.concatenate([_all_round(), [basis(np.ascontiguousarray(d)) for d in near]])


def _linear(columns: list[Array], right: Array) -> Array:
    """(k, m) least-squares solutions of m systems, columns (m, n) each."""
    design = np.stack(columns, axis=-1)
    size = np.maximum(np.linalg.norm(design, axis=1, keepdims=True), 1e-300)
    design = design / size
    normal = design.swapaxes(1, 2) @ design + 1e-13 * np.eye(len(columns))
    return (np.linalg.solve(normal, design.swapaxes(1, 2) @ right[..., None])[..., 0] / size[:, 0]).T


def _tubes(few: Array, count: int) -> list[Placed]:
    """The best of x² + y² = 2ax + 2by + c in the axes of every direction."""
    frames = _frames(few)
    x, y, _ = np.einsum("nj,mjk->kmn", few, frames)
    a, b, c = _linear([2 * x, 2 * y, np.ones_like(x)], x * x + y * y)
    radius = np.sqrt(np.maximum(c + a * a + b * b, 0.0))
    costs = np.sum((np.hypot(x - a[:, None], y - b[:, None]) - radius[:, None]) ** 2, axis=1)
    return [
        Placed("cylinder", frames[k] @ [a[k], b[k], 0.0], frames[k], np.array([radius[k], 0.0]))
        for k in _both(costs, radius > 0, count, frames[:, :, 2])
    ]


def _cones(few: Array, count: int) -> list[Placed]:
    """The best of x² + y² = 2ax + 2by + t²z² - 2t²hz + d in the axes of every direction.

    t is the tangent of the half angle, h the height of the apex.
    """
    frames = _frames(few)
    x, y, z = np.einsum("nj,mjk->kmn", few, frames)
    a, b, square, twice, _ = _linear([2 * x, 2 * y, z * z, z, np.ones_like(z)], x * x + y * y)
    there = square > 1e-12
    square = np.where(there, square, 1.0)
    apex = -twice / (2 * square)
    half = np.arctan(np.sqrt(square)) * np.where(z.mean(axis=1) > apex, 1.0, -1.0)  # the nappe on which the hits lie
    across = np.hypot(x - a[:, None], y - b[:, None])
    off = across * np.cos(half)[:, None] - (z - apex[:, None]) * np.sin(half)[:, None]
    return [
        Placed("cone", frames[k] @ [a[k], b[k], 0.0], frames[k], np.array([-apex[k] * np.tan(half[k]), half[k]]))
        for k in _both(np.sum(off**2, axis=1), there, count, frames[:, :, 2])
    ]


def _rings(few: Array, count: int) -> list[Placed]:
    """The best of tubes that are bent to any side, by any amount."""
    reach, found, costs = float(np.sqrt(np.mean(np.sum(few**2, axis=1)))), [], []
    for tube in _tubes(few, TUBES):
        along, radius = tube.axes[:, 2], tube.sizes[0]
        middle = tube.origin - along * float(tube.origin @ along)
        minor = np.repeat([radius, radius / 2, reach / 2], len(RINGS))
        ring = minor * np.tile(RINGS, 3)
        for turn in np.arange(BENDS) * 2 * np.pi / BENDS:
            across = np.cos(turn) * tube.axes[:, 0] + np.sin(turn) * tube.axes[:, 1]
            frame = basis(np.ascontiguousarray(cross(along, across)))
            rel = few - middle
            x, y = (rel @ across)[None] - ring[:, None], (rel @ along)[None]
            off = np.hypot(np.hypot(x, y) - ring[:, None], (rel @ frame[:, 2])[None]) - minor[:, None]
            costs.append(np.sum(off**2, axis=1))
            found += [(middle, across, frame, r, m) for r, m in zip(ring, minor, strict=True)]
    chosen = _lowest(np.concatenate(costs), np.isfinite(np.concatenate(costs)), 3 * count) if costs else []
    bent = [Placed("torus", m + r * a, f, np.array([r, small])) for m, a, f, r, small in (found[k] for k in chosen)]
    return bent + _wreaths(few, count)


def _wreaths(few: Array, count: int) -> list[Placed]:
    """Where the hits lie far round the ring: in the axes of every direction a circle near them, and the best tube about that.

    A few Gauss-Newton steps in the five numbers that are left along an axis, for all axes at once.
    """
    frames = _frames(few)
    x, y, z = np.einsum("nj,mjk->kmn", few, frames)
    a, b, c = _linear([2 * x, 2 * y, np.ones_like(x)], x * x + y * y)
    ring, middle = np.sqrt(np.maximum(c + a * a + b * b, 0.0)), z.mean(axis=1)
    tube = np.zeros_like(ring)
    for step in range(WREATH_STEPS + 1):
        rho = np.maximum(np.hypot(x - a[:, None], y - b[:, None]), 1e-9)
        out, up = rho - ring[:, None], z - middle[:, None]
        off = np.maximum(np.hypot(out, up), 1e-9)
        tube = off.mean(axis=1) if not step else tube
        left = off - tube[:, None]
        if step == WREATH_STEPS:
            break
        share = out / off
        turns = [share * (x - a[:, None]) / rho, share * (y - b[:, None]) / rho, share, up / off, np.ones_like(x)]
        by = _linear(turns, left)
        limit = HALFWAY * np.maximum(ring, 1e-9)
        a, b, ring, middle, tube = (v + np.clip(d, -limit, limit) for v, d in zip((a, b, ring, middle, tube), by, strict=True))
    costs = np.sum(left**2, axis=1)
    return [
        Placed("torus", frames[k] @ [a[k], b[k], middle[k]], frames[k], np.array([ring[k], tube[k]]))
        for k in _lowest(costs, (ring > tube) & (tube > 0), count)
    ]


def _both(costs: Array, there: Array, count: int, axes: Array) -> list[int]:
    """The lowest, which may all lie in one valley, and the lowest of those whose axes are unlike one another."""
    order, unlike = _lowest(costs, there, len(costs)), list[int]()
    left = np.array(order, int)
    while len(left) and len(unlike) < OTHERS:
        unlike.append(int(left[0]))
        left = left[np.abs(axes[left] @ axes[left[0]]) < UNLIKE]
    return [*order[:count], *(k for k in unlike if k not in order[:count])]


def _lowest(costs: Array, there: Array, count: int) -> list[int]:
    order = np.argsort(np.where(there & np.isfinite(costs), costs, np.inf), kind="stable")[:count]
    return [int(k) for k in order if there[k] and np.isfinite(costs[k])]
