"""Starts for the fits of cylinder, cone and torus that the first look does not lead to.

Along a given axis the equations of a cylinder and a cone are linear in their other parameters, so every
direction has its best shape at once. A short piece of a torus looks like a cylinder that is bent a little: to
which side, and how much, is tried.
"""

from __future__ import annotations

import numpy as np

from ..frames import Array
from ..kernels import basis
from .held import Held
from .placed import Placed

FOLLOWED = 24  # starts from which the descent begins
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


def elsewhere(kind: str, few: Array, held: Held, spot: Array | None, offset: float) -> list[Placed]:
    """The likeliest starts; ``few``: (n, 3) hits about their middle."""
    found = {"cylinder": _tubes, "cone": _cones, "torus": _rings}[kind](few)
    starts = []
    for placed in found:
        sizes = placed.sizes.copy()
        if kind != "cone":
            sizes[1 if kind == "torus" else 0] -= offset
        for k, given in enumerate(held.two_sizes(kind)):
            sizes[k] = sizes[k] if np.isnan(given) else given
        starts.append(Placed(kind, placed.origin if spot is None else spot, placed.axes, sizes))
    costs = [float(np.sum((start.residuals(few) - offset) ** 2)) for start in starts]
    return [starts[k] for k in np.argsort(costs)[:FOLLOWED] if np.isfinite(costs[k])]


FRAMES = np.array([basis(np.ascontiguousarray(d)) for d in DIRECTIONS])
CLOSE = half_sphere(4000)[-300:]  # near a direction, closer together: a flat cone has its axis near there


def _frames(few: Array) -> Array:
    """Axes (m, 3, 3) all round, and closer together about the directions in which the hits spread most and least."""
    _, _, rows = np.linalg.svd(few, full_matrices=True)
    near = np.vstack([CLOSE @ basis(np.ascontiguousarray(rows[k])).T for k in (0, 2)])
    return np.concatenate([FRAMES, [basis(np.ascontiguousarray(d)) for d in near]])


def _linear(columns: list[Array], right: Array) -> Array:
    """(m, k) least-squares solutions of m systems, columns (m, n) each."""
    design = np.stack(columns, axis=-1)
    size = np.maximum(np.linalg.norm(design, axis=1, keepdims=True), 1e-300)
    return np.einsum("mkn,mn->mk", np.linalg.pinv(design / size, rcond=1e-10), right) / size[:, 0]


def _tubes(few: Array) -> list[Placed]:
    """x² + y² = 2ax + 2by + c in the axes of every direction."""
    frames = _frames(few)
    x, y, _ = np.einsum("nj,mjk->kmn", few, frames)
    a, b, c = _linear([2 * x, 2 * y, np.ones_like(x)], x * x + y * y).T
    square = c + a * a + b * b
    return [
        Placed("cylinder", frame @ [p, q, 0.0], frame, np.array([np.sqrt(s), 0.0]))
        for frame, p, q, s in zip(frames, a, b, square, strict=True)
        if s > 0
    ]


def _cones(few: Array) -> list[Placed]:
    """x² + y² = 2ax + 2by + t²z² - 2t²cz + d in the axes of every direction; t: tangent of the half angle, c: the apex."""
    frames = _frames(few)
    x, y, z = np.einsum("nj,mjk->kmn", few, frames)
    a, b, square, twice, _ = _linear([2 * x, 2 * y, z * z, z, np.ones_like(z)], x * x + y * y).T
    found = []
    for frame, p, q, t2, s, heights in zip(frames, a, b, square, twice, z, strict=True):
        if t2 <= 1e-12:
            continue
        tangent, apex = float(np.sqrt(t2)), -float(s) / (2 * float(t2))
        opens = 1.0 if heights.mean() > apex else -1.0  # the nappe on which the hits lie
        half = np.arctan(tangent) * opens
        found.append(Placed("cone", frame @ [p, q, 0.0], frame, np.array([-apex * np.tan(half), half])))
    return found


def _rings(few: Array) -> list[Placed]:
    """Bent tubes, and circles in the half plane through axes all round."""
    found, reach = [], float(np.sqrt(np.mean(np.sum(few**2, axis=1))))
    tubes = sorted(_tubes(few), key=lambda tube: float(np.sum(tube.residuals(few) ** 2)))
    for tube in tubes[:5]:
        along, radius = tube.axes[:, 2], tube.sizes[0]
        middle = tube.origin - along * float(tube.origin @ along)
        for turn in np.arange(BENDS) * 2 * np.pi / BENDS:
            across = np.cos(turn) * tube.axes[:, 0] + np.sin(turn) * tube.axes[:, 1]
            frame = basis(np.ascontiguousarray(np.cross(along, across)))
            for minor in (radius, radius / 2, reach / 2):
                for ring in RINGS:
                    found.append(Placed("torus", middle + ring * minor * across, frame, np.array([ring * minor, minor])))
    return found
