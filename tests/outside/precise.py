"""Orthogonal-distance fits in 50-digit arithmetic (mpmath): slow, plain, and independent of ours.

Gauss–Newton with central differences of 1e-25; its resting point is where the gradient of the
sum of squares vanishes, whatever the path.
"""

from __future__ import annotations

import numpy as np
from mpmath import matrix, mp, mpf

mp.dps = 50
H = mpf(10) ** -25


def cross_and_along(p, x, y, z):
    """Distance from, and height along, the axis through (p0, p1, 0) with direction (p2, p3, 1)."""
    length = mp.sqrt(p[2] ** 2 + p[3] ** 2 + 1)
    u, v, w = p[2] / length, p[3] / length, 1 / length
    x, y = x - p[0], y - p[1]
    along = x * u + y * v + z * w
    return mp.sqrt((y * w - z * v) ** 2 + (z * u - x * w) ** 2 + (x * v - y * u) ** 2), along


def plane(p, x, y, z):
    return [(z - p[0] - p[1] * x - p[2] * y) / mp.sqrt(1 + p[1] ** 2 + p[2] ** 2)]


def line(p, x, y, z):
    """Two components across a line near the z axis, square to it."""
    length = mp.sqrt(p[2] ** 2 + p[3] ** 2 + 1)
    u, v, w = p[2] / length, p[3] / length, 1 / length
    x, y = x - p[0], y - p[1]
    return [y * w - z * v, z * u - x * w, x * v - y * u]


def circle(p, x, y, z):
    return [mp.sqrt((x - p[0]) ** 2 + (y - p[1]) ** 2) - p[2]]


def sphere(p, x, y, z):
    return [mp.sqrt((x - p[0]) ** 2 + (y - p[1]) ** 2 + (z - p[2]) ** 2) - p[3]]


def cylinder(p, x, y, z):
    return [cross_and_along(p, x, y, z)[0] - p[4]]


def cone(p, x, y, z):
    """p4: radius at the height of the origin; p5: half angle."""
    across, along = cross_and_along(p, x, y, z)
    return [(across - p[4]) * mp.cos(p[5]) - along * mp.sin(p[5])]


def torus(p, x, y, z):
    across, along = cross_and_along(p, x, y, z - p[6])
    return [mp.sqrt((across - p[4]) ** 2 + along**2) - p[5]]


def ellipse(p, x, y, z):
    """Center, turn, half axes; the foot by Newton's method on its angle."""
    c, s = mp.cos(p[2]), mp.sin(p[2])
    u, v = c * (x - p[0]) + s * (y - p[1]), c * (y - p[1]) - s * (x - p[0])
    t = mp.atan2(p[3] * v, p[4] * u)
    for _ in range(12):
        c, s = mp.cos(t), mp.sin(t)
        t -= ((p[3] ** 2 - p[4] ** 2) * c * s - u * p[3] * s + v * p[4] * c) / (
            (p[3] ** 2 - p[4] ** 2) * (c * c - s * s) - u * p[3] * c - v * p[4] * s
        )
    c, s = mp.cos(t), mp.sin(t)
    return [((u - p[3] * c) * p[4] * c + (v - p[4] * s) * p[3] * s) / mp.sqrt((p[4] * c) ** 2 + (p[3] * s) ** 2)]


def least_squares(residual, start, points: np.ndarray, steps: int = 60):
    """Parameters (list of mpf) and root of the sum of squares at the minimum near a start."""
    rows = [[v if isinstance(v, mpf) else mpf(float(v)) for v in point] for point in points]
    p = [mpf(float(v)) for v in start]

    def every(q):
        return [r for row in rows for r in residual(q, *row)]

    for _ in range(steps):
        r = every(p)
        columns = []
        for k in range(len(p)):
            up, down = list(p), list(p)
            up[k] += H
            down[k] -= H
            columns.append([(a - b) / (2 * H) for a, b in zip(every(up), every(down), strict=True)])
        n = len(p)
        normal = matrix(n, n)
        gradient = matrix(n, 1)
        for a in range(n):
            gradient[a] = -sum(x * y for x, y in zip(columns[a], r, strict=True))
            for b in range(n):
                normal[a, b] = sum(x * y for x, y in zip(columns[a], columns[b], strict=True))
        step = mp.lu_solve(normal, gradient)
        p = [v + step[k] for k, v in enumerate(p)]
        if max(abs(step[k]) for k in range(n)) < mpf(10) ** -18:
            break
    return p, mp.sqrt(sum(v * v for v in every(p)))
