"""Minimum zone, inscribed, circumscribed and tangent shapes.

All are linear programmes in the small step of a shape that lies close already: residuals
change linearly with the step, so "the largest residual becomes least" is a linear
objective with linear constraints. The programme is solved again from where it led until
nothing changes (sequential linear programming).
Source: G. T. Anthony, H. M. Anthony, B. Bittner et al., "Reference software for finding
Chebyshev best-fit geometric elements", Precision Engineering 19 (1996).

How we know that it is the optimum: plane and line zones, the circumscribed circle and sphere and
tangent planes have no local optimum beside the global one while the form is small beside the
size; the programme's own dual proves each step's solution. For circle, sphere and cylinder zones,
and for inscribed shapes, the start is the Gaussian shape and several shaken ones, and the best is
kept: for forms small beside the size, as parts have them, these agree.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.optimize import linprog

from ..errors import FitError
from ..frames import Array, Motion
from .descent import Free, Placed, linearise, stepped
from .models import MODELS, Model
from .result import FitResult
from .solid import shaped

ROUNDS = 60
SHAKES = 4


def fit_extreme(gaussian: FitResult, criterion: str, points: Array, held: frozenset[str]) -> FitResult:
    """From the Gaussian result to the shape with the wanted extreme property.

    Such a shape rests on a few hits only, so it has no covariance (NaN).
    """
    kind, model = gaussian.kind, MODELS[gaussian.kind]
    sizes = np.array([getattr(gaussian.shape, name) for name in model.sizes], float)
    start = Placed(gaussian.local.translation, gaussian.local.rotation, sizes)
    free = Free.of(model, held | ({"rx", "ry"} if "direction" in held else set()))
    placed = grown(model, criterion, extreme(kind, criterion, start, points, free), points)
    residuals, transposed = linearise(model, placed, points, free)
    jacobian = transposed.T
    if kind == "plane":
        shape = replace(gaussian.shape, point=placed.origin, normal=placed.axes[:, 2])
    else:
        shape = shaped(kind, placed)
    unknown = np.full((jacobian.shape[1],) * 2, np.nan)
    return FitResult(
        kind, criterion, shape, residuals, free.names(model), jacobian, unknown, Motion(placed.axes, placed.origin)
    )


def extreme(kind: str, criterion: str, start: Placed, points: Array, free: Free) -> Placed:
    """The shape with the wanted extreme property, near a Gaussian start.

    Parameters
    ----------
    kind : plane, circle, sphere or cylinder
    criterion : "chebyshev", "inscribed", "circumscribed" or "tangent"
    start : the Gaussian shape, in the frame of ``points``
    """
    model = MODELS[kind]
    random = np.random.default_rng(1)
    residuals, _ = linearise(model, start, points, free)
    reach = float(np.ptp(residuals)) or 1e-9
    best, best_value = None, np.inf
    for shake in range(1 if criterion == "tangent" else SHAKES):
        placed = start
        if shake:
            size = float(np.linalg.norm(points.std(axis=0)))
            scale = np.array([reach if m < 3 else reach / size for m in free.moves] + [0.0] * len(free.sizes))
            placed = stepped(start, scale * random.normal(size=len(scale)), free)
        placed, value = _settle(model, criterion, placed, points, free, reach)
        if value < best_value - 1e-12:
            best, best_value = placed, value
    if best is None:
        raise FitError("No such shape was found on these hits.", "The hits are kept.", "Take hits all round it.")
    return best


def _settle(model: Model, criterion: str, placed: Placed, points: Array, free: Free, reach: float) -> tuple[Placed, float]:
    trust = 4 * reach
    value = _value(model, criterion, placed, points)
    for _ in range(ROUNDS):
        residuals, transposed = linearise(model, placed, points, free)
        jacobian = transposed.T
        step = _programme(criterion, residuals, jacobian, trust)
        if step is None:
            break
        trial = stepped(placed, step, free)
        trial_value = _value(model, criterion, trial, points)
        if trial_value < value - 1e-14:
            gain = value - trial_value
            placed, value = trial, trial_value
            if gain < 1e-12:
                break
        else:
            trust /= 4
            if trust < 1e-12:
                break
    return placed, value


def _value(model: Model, criterion: str, placed: Placed, points: Array) -> float:
    """What is to become small: the zone's width, or how far the shape is from all it must bear."""
    residuals, _, _ = model.distance(placed.local(points), placed.sizes)
    if criterion == "chebyshev":
        return float(np.ptp(residuals))
    if criterion == "circumscribed":
        return float(placed.sizes[0] + residuals.max())
    if criterion == "inscribed":
        return float(-(placed.sizes[0] + residuals.min()))
    return float(np.sum(residuals.max() - residuals))


def _programme(criterion: str, residuals: Array, jacobian: Array, trust: float) -> Array | None:
    """The best small step of the linearised problem, every residual changing by ``trust`` at most."""
    n, k = jacobian.shape
    ones = np.ones((n, 1))
    bounds: list[tuple[float | None, float | None]] = []
    for column in range(k):
        room = trust / max(float(np.abs(jacobian[:, column]).max()), 1e-300)
        bounds.append((-room, room))
    if criterion == "chebyshev":  # least t with |r + J s| <= t
        cost = np.concatenate([np.zeros(k), [1.0]])
        above = np.vstack([np.hstack([jacobian, -ones]), np.hstack([-jacobian, -ones])])
        limit = np.concatenate([-residuals, residuals])
        bounds.append((0, None))
    elif criterion in ("circumscribed", "inscribed"):  # least or greatest radius with all on one side
        sign = 1.0 if criterion == "circumscribed" else -1.0
        cost = np.zeros(k)
        cost[k - 1] = sign
        above, limit = sign * jacobian, -sign * residuals
        bounds[k - 1] = (None, None)
    else:  # tangent: all hits on or under the plane, as near to it as can be
        cost = -jacobian.sum(axis=0)
        above, limit = jacobian, -residuals
        bounds[0] = (None, None)
    found = linprog(cost, A_ub=above, b_ub=limit, bounds=bounds, method="highs")
    return found.x[:k] if found.success else None


def grown(model: Model, criterion: str, placed: Placed, points: Array) -> Placed:
    """The last touch: the size (or height) that makes the wanted property exact."""
    residuals, _, _ = model.distance(placed.local(points), placed.sizes)
    if criterion == "chebyshev":
        by = (residuals.max() + residuals.min()) / 2
    elif criterion == "inscribed":
        by = residuals.min()
    else:
        by = residuals.max()
    if model.sizes:
        return Placed(placed.origin, placed.axes, placed.sizes + by)
    return Placed(placed.origin + by * placed.axes[:, 2], placed.axes, placed.sizes)
