"""Principal axes of points, to full relative precision, and the check of what comes in."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED
from .distances import local


@njit("Tuple((i8, f8, f8))(f8[:,::1])", **COMPILED)
def first_bad(points):
    """Row of the first point that is no number (-1: none), the widest extent, the largest size."""
    low, high = np.full(3, math.inf), np.full(3, -math.inf)
    for i in range(len(points)):
        for k in range(3):
            value = points[i, k]
            if not math.isfinite(value):
                return i, math.nan, math.nan
            low[k], high[k] = min(low[k], value), max(high[k], value)
    widest = largest = 0.0
    for k in range(3):
        widest, largest = max(widest, high[k] - low[k]), max(largest, abs(low[k]), abs(high[k]))
    return -1, widest, largest


@njit("f8[::1](f8[:,::1])", **COMPILED)
def middle(points):
    """Mean (3,) of points (n, 3)."""
    out = np.zeros(3)
    for i in range(len(points)):
        for k in range(3):
            out[k] += points[i, k]
    return out / len(points)


@njit("f8[:,::1](f8[:,::1], f8[::1])", **COMPILED)
def centered(points, center):
    """Points (n, 3) less a center."""
    out = np.empty((len(points), 3))
    for i in range(len(points)):
        for k in range(3):
            out[i, k] = points[i, k] - center[k]
    return out


@njit("f8[:,::1](f8[:,::1], f8[::1], f8[:,::1])", **COMPILED)
def laid_flat(points, origin, axes):
    """Points (n, 3) in some axes (columns), with z left out."""
    out = np.empty((len(points), 3))
    for i in range(len(points)):
        out[i, 0], out[i, 1], _ = local(points, i, origin, axes)
        out[i, 2] = 0.0
    return out


@njit(**COMPILED)
def scatter_in(points, origin, axes):
    """Scatter (3, 3) of the points' coordinates in some axes."""
    s = np.zeros((3, 3))
    for i in range(len(points)):
        x, y, z = local(points, i, origin, axes)
        s[0, 0] += x * x
        s[0, 1] += x * y
        s[0, 2] += x * z
        s[1, 1] += y * y
        s[1, 2] += y * z
        s[2, 2] += z * z
    s[1, 0], s[2, 0], s[2, 1] = s[0, 1], s[0, 2], s[1, 2]
    return s


@njit(**COMPILED)
def jacobi(s, axes):
    """Turn ``axes`` (columns) by plane rotations until s is diagonal; keeps digits of small values.

    Source: Golub and Van Loan, "Matrix Computations" (4th ed., 2013), section 8.5.
    """
    for _ in range(12):
        largest = 0.0
        for p in range(2):
            for q in range(p + 1, 3):
                if s[p, q] == 0.0:
                    continue
                largest = max(largest, abs(s[p, q]) / max(math.sqrt(s[p, p] * s[q, q]), 1e-300))
                tau = (s[q, q] - s[p, p]) / (2 * s[p, q])
                t = math.copysign(1.0, tau) / (abs(tau) + math.sqrt(1 + tau * tau))
                c = 1 / math.sqrt(1 + t * t)
                d = t * c
                for k in range(3):
                    a, b = s[k, p], s[k, q]
                    s[k, p], s[k, q] = c * a - d * b, d * a + c * b
                for k in range(3):
                    a, b = s[p, k], s[q, k]
                    s[p, k], s[q, k] = c * a - d * b, d * a + c * b
                    a, b = axes[k, p], axes[k, q]
                    axes[k, p], axes[k, q] = c * a - d * b, d * a + c * b
        if largest < 1e-15:
            break


@njit("Tuple((f8[::1], f8[::1], f8[:,::1]))(f8[:,::1], f8[::1])", **COMPILED)
def principal(points, about):
    """Center, spreads (3,) falling, and axes (3, 3) as right-handed rows, of points (n, 3).

    ``about``: a point that takes the place of the mean; NaN for none. Spreads are roots of the
    summed squares, as singular values are. A second pass in the axes found first gives the small
    spreads the digits that a scatter matrix squares away.
    """
    n = len(points)
    center = np.zeros(3)
    if math.isnan(about[0]):
        for i in range(n):
            for k in range(3):
                center[k] += points[i, k]
        center /= n
        off = np.zeros(3)
        for i in range(n):
            for k in range(3):
                off[k] += points[i, k] - center[k]
        center += off / n
    else:
        center[:] = about
    axes = np.eye(3)
    for _ in range(2):
        s = scatter_in(points, center, axes)
        jacobi(s, axes)
    spreads = np.array([math.sqrt(max(s[0, 0], 0.0)), math.sqrt(max(s[1, 1], 0.0)), math.sqrt(max(s[2, 2], 0.0))])
    order = np.argsort(-spreads)
    spreads = spreads[order]
    rows = np.empty((3, 3))
    for k in range(3):
        rows[k] = axes[:, order[k]]
    handed = (
        rows[0, 0] * (rows[1, 1] * rows[2, 2] - rows[1, 2] * rows[2, 1])
        - rows[0, 1] * (rows[1, 0] * rows[2, 2] - rows[1, 2] * rows[2, 0])
        + rows[0, 2] * (rows[1, 0] * rows[2, 1] - rows[1, 1] * rows[2, 0])
    )
    if handed < 0:
        rows[2] = -rows[2]
    return center, spreads, rows


@njit("f8[::1](f8[:,::1], f8[:,:,::1])", **COMPILED)
def from_edges(points, edges):
    """Distances (n,) of points (n, 3) from the nearest of some straight edges (m, 2, 3), at least one."""
    found = np.empty(len(points))
    for k in range(len(points)):
        x, y, z = points[k]
        nearest = math.inf
        for m in range(len(edges)):
            ax, ay, az = edges[m, 0]
            ux, uy, uz = edges[m, 1, 0] - ax, edges[m, 1, 1] - ay, edges[m, 1, 2] - az
            px, py, pz = x - ax, y - ay, z - az
            share = min(max((px * ux + py * uy + pz * uz) / max(ux * ux + uy * uy + uz * uz, 1e-12), 0.0), 1.0)
            px, py, pz = px - share * ux, py - share * uy, pz - share * uz
            nearest = min(nearest, px * px + py * py + pz * pz)
        found[k] = math.sqrt(nearest)
    return found
