"""Orthogonal-distance least squares in axes that move with the shape.

The shape stands still in its own axes and the points are carried into them, so every shape
shares one Jacobian (see ``distances``). Only the normal equations are kept, never a matrix as
long as the points.
Source: A. B. Forbes, "Least-squares best-fit geometric elements", NPL report DITC 140/89
(1989). Damping after D. W. Marquardt, SIAM J. Appl. Math. 11 (1963).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED
from .distances import fill

SINGULAR = 1e-14  # pivot of a scaled matrix below which it leaves a parameter open
UNSEEN = 1e-12  # share of the sum of squares that a last step changes
BLOCK = 256  # points at a time: their rows stay in the processor's nearest memory


@njit(fastmath={"reassoc", "contract"}, **COMPILED)
def product(a, b, n):
    """Scalar product of the first n numbers; the order of the sum is left to the machine."""
    total = 0.0
    for i in range(n):
        total += a[i] * b[i]
    return total


@njit(**COMPILED)
def normal_equations(kind, points, origin, axes, sizes, columns, offset, normal, gradient):
    """Fill J'J (k, k) and J'r (k,) and give the sum of squares of r = distance - offset."""
    k, count = len(columns), len(points)
    rows, part = np.empty((8, BLOCK)), np.empty(BLOCK)
    normal[:], gradient[:], cost = 0.0, 0.0, 0.0
    for start in range(0, count, BLOCK):
        n = min(BLOCK, count - start)
        fill(kind, points, start, n, origin, axes, sizes, part, rows)
        for i in range(n):
            part[i] -= offset
        cost += product(part, part, n)
        for a in range(k):
            gradient[a] += product(rows[columns[a]], part, n)
            for b in range(a + 1):
                normal[a, b] += product(rows[columns[a]], rows[columns[b]], n)
    for a in range(k):
        for b in range(a):
            normal[b, a] = normal[a, b]
    return cost


@njit(**COMPILED)
def solved(normal, gradient, damping, step):
    """step = -(N + damping diag N)^-1 g by Cholesky on the scaled matrix; False where N is singular."""
    k = len(gradient)
    scale, lower = np.empty(k), np.zeros((k, k))
    for a in range(k):
        scale[a] = 1 / math.sqrt(max(normal[a, a], 1e-300))
    for a in range(k):
        for b in range(a + 1):
            value = normal[a, b] * scale[a] * scale[b]
            if a == b:
                value += damping
            for c in range(b):
                value -= lower[a, c] * lower[b, c]
            if a == b:
                if not value > SINGULAR:
                    return False
                lower[a, a] = math.sqrt(value)
            else:
                lower[a, b] = value / lower[b, b]
    for a in range(k):
        value = -gradient[a] * scale[a]
        for c in range(a):
            value -= lower[a, c] * step[c]
        step[a] = value / lower[a, a]
    for a in range(k - 1, -1, -1):
        value = step[a]
        for c in range(a + 1, k):
            value -= lower[c, a] * step[c]
        step[a] = value / lower[a, a]
    for a in range(k):
        step[a] *= scale[a]
    return True


@njit("Tuple((f8[:,::1], b1))(f8[:,::1])", **COMPILED)
def inverse(normal):
    """Inverse of a normal matrix (k, k), and whether it is sound: False where a parameter is undetermined."""
    k = len(normal)
    out, column, step, sound = np.empty((k, k)), np.zeros(k), np.empty(k), True
    for a in range(k):
        column[a] = -1.0
        sound = solved(normal, column, 0.0, step) and sound
        column[a] = 0.0
        if not sound:
            break
        out[:, a] = step
    for a in range(k):
        for b in range(a):
            out[a, b] = out[b, a] = (out[a, b] + out[b, a]) / 2
    return out, sound


@njit("f8[:,::1](f8, f8, f8)", **COMPILED)
def rotation(x, y, z):
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


@njit("Tuple((f8[::1], f8[:,::1], f8[::1]))(f8[::1], f8[:,::1], f8[::1], f8[::1], i8[::1])", **COMPILED)
def stepped(origin, axes, sizes, step, columns):
    """Origin, axes and sizes after a small shift and turn in the shape's own axes."""
    shift, turn, other = np.zeros(3), np.zeros(3), sizes.copy()
    for a in range(len(columns)):
        column = columns[a]
        if column < 3:
            shift[column] = step[a]
        elif column < 6:
            turn[column - 3] = step[a]
        else:
            other[column - 6] += step[a]
    place = origin.copy()
    for i in range(3):
        for j in range(3):
            place[i] += axes[i, j] * shift[j]
    small, turned = rotation(turn[0], turn[1], turn[2]), np.zeros((3, 3))
    for i in range(3):
        for j in range(3):
            for m in range(3):
                turned[i, j] += axes[i, m] * small[m, j]
    return place, turned, other


@njit(
    "Tuple((f8[::1], f8[:,::1], f8[::1], f8, f8[:,::1], b1))(i8, f8[:,::1], f8[::1], f8[:,::1], f8[::1], i8[::1], f8, f8, i8)",
    **COMPILED,
)
def descend(kind, points, origin, axes, sizes, columns, offset, loose, iterations):
    """Minimise the sum of squares of (distance - offset) from a start.

    Parameters
    ----------
    kind : one of CODES
    points : (n, 3), best centered on their middle
    origin, axes, sizes : (3,), (3, 3) columns, (2,): the start
    columns : the free parameters: 0 to 5 for x y z rx ry rz, 6 and 7 for the sizes
    offset : distance from the shape at which the points are to lie, mm
    loose : a step that changes the residuals by less than this share of their size ends it
    iterations : at most so many steps

    Returns
    -------
    origin, axes, sizes, cost, normal matrix (k, k), settled
    """
    k = len(columns)
    normal, gradient, step = np.empty((k, k)), np.empty(k), np.empty(k)
    trial_normal, trial_gradient = np.empty((k, k)), np.empty(k)
    cost = normal_equations(kind, points, origin, axes, sizes, columns, offset, normal, gradient)
    largest = 1.0
    for i in range(len(points)):
        for j in range(3):
            largest = max(largest, abs(points[i, j]))
    floor = 2e-15 * math.sqrt(len(points)) * largest  # what rounding leaves
    damping, growth, before = 0.0, 4.0, 0.0
    for _ in range(iterations):
        if not solved(normal, gradient, damping, step):
            damping = max(10 * damping, 1e-6)
            if damping > 1e15:
                break
            continue
        place, turned, other = stepped(origin, axes, sizes, step, columns)
        square = 0.0  # what the step does to all residuals: where they hold it weakly, rounding alone makes it long
        for a in range(k):
            for b in range(k):
                square += step[a] * normal[a, b] * step[b]
        reach = math.sqrt(max(square, 0.0))
        # steps shrink by a steady factor, so the next one is known before it is taken
        coming = reach * min(1.0, 2 * reach / before) if before > 0 and damping == 0 else reach
        small = coming <= floor + loose * math.sqrt(cost)
        if small and damping == 0 and reach * reach <= UNSEEN * cost:  # too little to be looked at again
            return place, turned, other, cost, normal, True
        trial = normal_equations(kind, points, place, turned, other, columns, offset, trial_normal, trial_gradient)
        before = reach
        if trial <= cost * (1 + 1e-14):
            origin, axes, sizes, cost = place, turned, other, trial
            normal, trial_normal = trial_normal, normal
            gradient, trial_gradient = trial_gradient, gradient
            damping, growth = (damping / 10 if damping > 1e-9 else 0.0), 4.0
            if small:
                return origin, axes, sizes, cost, normal, True
        elif small:
            return origin, axes, sizes, cost, normal, True
        else:
            damping, growth = max(growth * damping, 1e-6), 2 * growth
            if damping > 1e15:
                return origin, axes, sizes, cost, normal, True
    return origin, axes, sizes, cost, normal, False
