"""Orthogonal-distance least squares in moving local axes.

The shape stands still at the origin of a local frame and the points are carried into that
frame; a step then has the simple derivatives of a shape in standard position.
Source: A. B. Forbes, "Least-squares best-fit geometric elements", NPL report DITC 140/89
(1989, revised 1991). Damping after Marquardt, SIAM J. Appl. Math. 11 (1963).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from ..errors import FitError
from ..frames import Array

State = TypeVar("State")
ITERATIONS = 100


@dataclass(frozen=True)
class Model:
    """How a shape in local axes answers: residuals with Jacobian, and the state after a step."""

    linearise: Callable
    stepped: Callable


def least_squares(model: Model, state: State, points: Array) -> tuple[State, Array, Array]:
    """Minimise the sum of squared orthogonal distances.

    Parameters
    ----------
    model : Model
        ``linearise(state, points) -> (residuals (n,), jacobian (n, k))`` and
        ``stepped(state, step (k,)) -> state``.
    state : the start
    points : (n, 3) array

    Returns
    -------
    state, residuals, jacobian at the minimum. Raises FitError when it does not settle.
    """
    residuals, jacobian = model.linearise(state, points)
    cost = residuals @ residuals
    damping = 0.0
    for _ in range(ITERATIONS):
        normal = jacobian.T @ jacobian
        gradient = jacobian.T @ residuals
        scale = np.diag(normal).copy()
        scale[scale == 0] = 1.0
        try:
            step = -np.linalg.solve(normal + np.diag(damping * scale), gradient)
        except np.linalg.LinAlgError:
            damping = max(10 * damping, 1e-6)
            continue
        trial = model.stepped(state, step)
        trial_residuals, trial_jacobian = model.linearise(trial, points)
        trial_cost = trial_residuals @ trial_residuals
        small = np.all(np.abs(step) * np.sqrt(scale) <= 1e-14 * np.sqrt(len(points)) + 1e-11 * np.sqrt(cost))
        if np.isfinite(trial_cost) and trial_cost <= cost * (1 + 1e-14):
            state, residuals, jacobian, cost = trial, trial_residuals, trial_jacobian, trial_cost
            damping = damping / 10 if damping > 1e-12 else 0.0
            if small:
                return state, residuals, jacobian
        elif small:
            return state, residuals, jacobian
        else:
            damping = max(10 * damping, 1e-6)
            if damping > 1e12:
                return state, residuals, jacobian
    raise FitError(
        "The shape did not settle on these hits.",
        "The hits are kept.",
        "Take hits farther apart, or all round, and try again.",
    )
