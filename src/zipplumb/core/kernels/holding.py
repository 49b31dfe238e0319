"""The pose in which touches leave least: Gauss-Newton in six small motions (a seventh for scale), level by level.

What it is about stands in ``alignment/touches.py``; here are its numbers.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED
from .descent import rotation

ITERATIONS, HALVINGS = 60, 30
LEAST_CURVED, FARTHEST = 1e-6, 0.3  # of the largest curvature, and of the touches' length, of a step where they are astray
ASTRAY = 0.01  # of the touches' length: residuals beyond it come of a feature that was taken for another
OPEN = 1e-7  # singular value, by the root of the touches' number, below which a motion is loose
WEAK = 0.02  # and below which a level of a best fit shares it with the later ones
LEAST_LENGTH = 1e-3  # mm
ROUNDING = 16 * np.finfo(float).eps


@njit(
    "Tuple((f8[::1], f8[:,::1], f8[::1], f8, f8[:,::1]))(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], f8, b1)",
    **COMPILED,
)
def touches_seen(world, part, directions, turn, shift, scale, scale_free):
    """Touches (n) seen from a pose: residuals (n,), their Jacobian (n, 6 or 7), its center, the length by which turns are
    multiplied, and the places from the center (n, 3)."""
    n, k = len(world), 7 if scale_free else 6
    residuals, jacobian, center, rel = np.empty(n), np.empty((n, k)), np.zeros(3), np.empty((n, 3))
    for i in range(n):
        for c in range(3):
            at = scale * (turn[c, 0] * world[i, 0] + turn[c, 1] * world[i, 1] + turn[c, 2] * world[i, 2]) + shift[c]
            rel[i, c] = at
            center[c] += at / n
    square = 0.0
    for i in range(n):
        x, y, z = directions[i]
        residuals[i] = (rel[i, 0] - part[i, 0]) * x + (rel[i, 1] - part[i, 1]) * y + (rel[i, 2] - part[i, 2]) * z
        for c in range(3):
            rel[i, c] -= center[c]
        square += (rel[i, 0] ** 2 + rel[i, 1] ** 2 + rel[i, 2] ** 2) / n
    length = max(math.sqrt(square), LEAST_LENGTH)
    for i in range(n):
        x, y, z = directions[i]
        a, b, c = rel[i]
        jacobian[i, 0], jacobian[i, 1], jacobian[i, 2] = x, y, z
        jacobian[i, 3] = (b * z - c * y) / length
        jacobian[i, 4] = (c * x - a * z) / length
        jacobian[i, 5] = (a * y - b * x) / length
        if scale_free:
            jacobian[i, 6] = (a * x + b * y + c * z) / length
    return residuals, jacobian, center, length, rel


@njit(**COMPILED)
def _square(world, part, directions, u, turn, shift, scale):
    """Sum of the residuals' squares by their uncertainties."""
    total = 0.0
    for i in range(len(world)):
        off = 0.0
        for c in range(3):
            at = scale * (turn[c, 0] * world[i, 0] + turn[c, 1] * world[i, 1] + turn[c, 2] * world[i, 2]) + shift[c]
            off += (at - part[i, c]) * directions[i, c]
        total += (off / u[i]) ** 2
    return total


@njit(**COMPILED)
def _gain(jacobian, u, level, ranks):
    """How errors of the touches become motion (k, n), and what stays loose (k, m), level by level.

    ``ranks``: how many motions each level takes; with none what it holds firmly, and the last one all that is left.
    """
    n, k = jacobian.shape
    free, gain = np.eye(k), np.zeros((k, n))
    levels = np.unique(level)
    for number in range(len(levels)):
        if free.shape[1] == 0:
            break
        mine = np.flatnonzero(level == levels[number]) if len(ranks) else np.flatnonzero(level <= levels[number])
        m = len(mine)
        rows, weights = jacobian[mine], u[mine].min() / u[mine]
        seen = rows @ free
        for i in range(m):
            seen[i] *= weights[i]
        # only where they are few do the singular vectors miss the loose ones
        left, values, right = np.linalg.svd(seen, 1) if m < free.shape[1] else np.linalg.svd(seen, 0)
        if len(ranks):
            rank = ranks[number]
        else:
            least = (OPEN if number == len(levels) - 1 else WEAK) * math.sqrt(m)
            rank = int(np.sum(values > least))
        held = np.ascontiguousarray(right[:rank].T) / values[:rank]
        answers = np.ascontiguousarray(left[:, :rank].T) * weights
        inverse = free @ (held @ answers)
        gain -= (inverse @ rows) @ gain
        for i in range(m):
            gain[:, mine[i]] += inverse[:, i]
        free = free @ np.ascontiguousarray(right[rank:].T)
    return gain, free


@njit(**COMPILED)
def _newton(jacobian, residuals, directions, rel, u, length, loose):
    """A step with what turns do in second order, which counts where a feature was taken for another: there Gauss-Newton
    may circle. Where it curves downward it is followed down, no farther than the touches reach (J. Nocedal and S. J. Wright,
    "Numerical optimization", 2006, section 3.4: modified Newton)."""
    n, k = jacobian.shape
    if loose.shape[1] == k:
        return np.zeros(k)
    normal, gradient, bent, along = np.zeros((k, k)), np.zeros(k), np.zeros((3, 3)), 0.0
    for i in range(n):
        weight = 1 / u[i] ** 2
        pull = weight * residuals[i]
        for a in range(k):
            gradient[a] += pull * jacobian[i, a]
            for b in range(k):
                normal[a, b] += weight * jacobian[i, a] * jacobian[i, b]
        for a in range(3):
            along += pull * directions[i, a] * rel[i, a]
            for b in range(3):
                bent[a, b] += pull * (directions[i, a] * rel[i, b] + directions[i, b] * rel[i, a]) / 2
    for a in range(3):
        for b in range(3):
            normal[3 + a, 3 + b] += (bent[a, b] - (along if a == b else 0.0)) / length**2
    held = np.eye(k)
    if loose.shape[1]:
        _, _, right = np.linalg.svd(np.ascontiguousarray(loose.T), 1)
        held = np.ascontiguousarray(right[loose.shape[1] :].T)
    across = np.ascontiguousarray(held.T)
    curved, vectors = np.linalg.eigh(across @ normal @ held)
    curved = np.abs(curved)
    curved = np.maximum(curved, LEAST_CURVED * curved.max())
    down = (np.ascontiguousarray(vectors.T) @ (across @ gradient)) / curved
    step = -(held @ (np.ascontiguousarray(vectors) @ down))
    far = math.sqrt(step @ step)
    return step if far <= FARTHEST * length else step * (FARTHEST * length / far)


@njit(
    "Tuple((b1, f8[:,::1], f8[::1], f8, f8[:,::1], f8[:,::1]))"
    "(f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], i8[::1], f8[:,::1], f8[::1], f8, b1, i8[::1])",
    **COMPILED,
)
def held_by(world, part, directions, u, level, turn, shift, scale, scale_free, ranks):
    """From touches (n) and a pose near by (``turn``, ``shift``, ``scale``): whether it settled, the pose, and there the gain
    (k, n) and the loose motions (k, m). ``ranks``: of each level, or none."""
    one_level = bool(np.all(level == level[0]))
    size_part = np.abs(part).max()
    for _ in range(ITERATIONS):
        residuals, jacobian, center, length, rel = touches_seen(world, part, directions, turn, shift, scale, scale_free)
        gain, loose = _gain(jacobian, u, level, ranks)
        step = -(gain @ residuals)
        astray = one_level and math.sqrt(residuals @ residuals / len(residuals)) > ASTRAY * length
        if astray:
            step = _newton(jacobian, residuals, directions, rel, u, length, loose)
        before = np.sum((residuals / u) ** 2)
        for _ in range(HALVINGS):
            small = rotation(step[3] / length, step[4] / length, step[5] / length)
            factor = math.exp(step[6] / length) if scale_free else 1.0
            there = factor * (small @ (shift - center)) + center + step[:3]
            turned, scaled = small @ turn, scale * factor
            after = _square(world, part, directions, u, turned, there, scaled)
            if after <= before * (1 + 1e-9) + 1e-18 or (not astray and math.sqrt(step @ step) < 0.2 * length):
                break
            step = step / 2
        turn, shift, scale = turned, there, scaled
        # judged by what it does to the touches: where they hold weakly, rounding alone makes long steps
        size = max(np.abs(shift).max(), size_part, length)
        if np.abs(jacobian @ step).max() <= ROUNDING * size:
            _, jacobian, _, _, _ = touches_seen(world, part, directions, turn, shift, scale, scale_free)
            gain, loose = _gain(jacobian, u, level, ranks)
            return True, turn, shift, scale, gain, np.ascontiguousarray(loose)
    return False, turn, shift, scale, np.zeros((0, 0)), np.zeros((0, 0))
