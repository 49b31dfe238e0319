"""Orthogonal-distance least squares in axes that move with the shape.

The shape stands still in its own axes and the points are carried into them; moving the
shape by a small shift d and turn w changes a point's distance by -(n.d) - (p x n).w, where n
is the gradient of the distance, so every shape shares one Jacobian.
Source: A. B. Forbes, "Least-squares best-fit geometric elements", NPL report DITC 140/89
(1989). Damping after D. W. Marquardt, SIAM J. Appl. Math. 11 (1963).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..errors import FitError
from ..frames import Array
from .models import Model

ITERATIONS = 200
MOVES = ("x", "y", "z", "rx", "ry", "rz")


@dataclass(frozen=True, eq=False)
class Placed:
    """A shape: its origin, its axes as columns, and its sizes."""

    origin: Array
    axes: Array
    sizes: Array

    def local(self, points: Array) -> Array:
        """Points (n, 3) in the shape's own axes, as columns (3, n)."""
        return self.axes.T @ points.T - (self.axes.T @ self.origin)[:, None]


@dataclass(frozen=True)
class Free:
    """Which parameters a fit may change: columns of the six moves, and of the sizes."""

    moves: tuple[int, ...]
    sizes: tuple[int, ...]

    @classmethod
    def of(cls, model: Model, held: frozenset[str] = frozenset()) -> Free:
        moves = tuple(MOVES.index(m) for m in model.moves if m not in held)
        return cls(moves, tuple(k for k, s in enumerate(model.sizes) if s not in held))

    def names(self, model: Model) -> tuple[str, ...]:
        return tuple(MOVES[k] for k in self.moves) + tuple(model.sizes[k] for k in self.sizes)


def linearise(model: Model, placed: Placed, points: Array, free: Free) -> tuple[Array, Array]:
    """Residuals (n,) and their transposed Jacobian (k, n) by the free parameters."""
    p = placed.local(points)
    residuals, n, by_sizes = model.distance(p, placed.sizes)
    jacobian = np.empty((len(free.moves) + len(free.sizes), p.shape[1]))
    for row, move in enumerate(free.moves):
        if move < 3:
            np.negative(n[move], out=jacobian[row])
        else:
            i, j = (move - 2) % 3, (move - 1) % 3
            np.multiply(p[j], n[i], out=jacobian[row])
            jacobian[row] -= p[i] * n[j]
    for row, size in enumerate(free.sizes, start=len(free.moves)):
        jacobian[row] = by_sizes[size]
    return residuals, jacobian


def stepped(placed: Placed, step: Array, free: Free) -> Placed:
    """The shape after a small shift and turn in its own axes, and a change of its sizes."""
    shift, turn = np.zeros(3), [0.0, 0.0, 0.0]
    for value, move in zip(step.tolist(), free.moves, strict=False):
        if move < 3:
            shift[move] = value
        else:
            turn[move - 3] = value
    sizes = placed.sizes
    if free.sizes:
        sizes = sizes.copy()
        sizes[list(free.sizes)] += step[len(free.moves) :]
    axes = placed.axes @ small_rotation(*turn) if any(turn) else placed.axes
    return Placed(placed.origin + placed.axes @ shift, axes, sizes)


def small_rotation(x: float, y: float, z: float) -> Array:
    """Rotation matrix of a rotation vector (Rodrigues)."""
    angle = math.sqrt(x * x + y * y + z * z)
    if angle < 1e-12:
        return np.array([[1.0, -z, y], [z, 1.0, -x], [-y, x, 1.0]])
    x, y, z = x / angle, y / angle, z / angle
    c, s = math.cos(angle), math.sin(angle)
    t = 1 - c
    return np.array(
        [
            [t * x * x + c, t * x * y - s * z, t * x * z + s * y],
            [t * x * y + s * z, t * y * y + c, t * y * z - s * x],
            [t * x * z - s * y, t * y * z + s * x, t * z * z + c],
        ]
    )


def descend(
    model: Model, placed: Placed, points: Array, free: Free, loose: float = 1e-11, iterations: int | None = None
) -> tuple[Placed, Array, Array]:
    """Minimise the sum of squared distances from a start.

    Parameters
    ----------
    loose : steps that change every residual by less than this share of their size end it.
    iterations : for a first look: so many steps are taken, settled or not

    Returns
    -------
    placed, residuals, transposed jacobian (k, n) at the minimum. Raises FitError when it does not settle.
    """
    residuals, jacobian = linearise(model, placed, points, free)
    cost, damping, growth = float(residuals @ residuals), 0.0, 4.0
    before = 0.0
    floor = 2e-15 * math.sqrt(len(points)) * max(float(np.abs(points).max()), 1.0)  # what rounding leaves
    for _ in range(iterations or ITERATIONS):
        normal, gradient = jacobian @ jacobian.T, jacobian @ residuals
        scale = np.maximum(normal.diagonal(), 1e-300)
        if damping:
            normal[np.diag_indices_from(normal)] += damping * scale
        try:
            step = np.linalg.solve(normal, -gradient).astype(float, copy=False)
        except np.linalg.LinAlgError:
            damping = max(10 * damping, 1e-6)
            continue
        trial = stepped(placed, step, free)
        trial_residuals, trial_jacobian = linearise(model, trial, points, free)
        trial_cost = float(trial_residuals @ trial_residuals)
        reach = float(np.max(np.abs(step) * np.sqrt(scale)))
        # the steps shrink by a steady factor, so the next one is known before it is taken
        coming = reach * min(1.0, 2 * reach / before) if before and not damping else reach
        small = coming <= floor + loose * math.sqrt(cost)
        before = reach
        if trial_cost <= cost * (1 + 1e-14):
            placed, residuals, jacobian, cost = trial, trial_residuals, trial_jacobian, trial_cost
            damping, growth = (damping / 10 if damping > 1e-9 else 0.0), 4.0
            if small:
                return placed, residuals, jacobian
        elif small:
            return placed, residuals, jacobian
        else:
            damping, growth = max(growth * damping, 1e-6), 2 * growth
            if damping > 1e15:
                return placed, residuals, jacobian
    if iterations:
        return placed, residuals, jacobian
    raise FitError(
        "The shape did not settle on these hits.",
        "The hits are kept.",
        "Take hits farther apart, or all round, and try again.",
    )
