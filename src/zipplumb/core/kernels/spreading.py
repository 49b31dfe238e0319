"""How the points about many places are spread, and which way each of these spreads is thinnest."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED
from .middles import jacobi


@njit("f8[:,:,::1](f8[:,::1], i8[:,::1])", **COMPILED)
def spreads(points, near):
    """Covariances (k, 3, 3) of some m of points (n, 3) each, about their own mean; ``near`` (k, m) tells which."""
    count, each = near.shape
    out = np.empty((count, 3, 3))
    off = np.empty((each, 3))
    for i in range(count):
        for axis in range(3):
            mean = 0.0
            for j in range(each):
                mean += points[near[i, j], axis]
            mean /= each
            for j in range(each):
                off[j, axis] = points[near[i, j], axis] - mean
        for a in range(3):
            for b in range(a, 3):
                total = 0.0
                for j in range(each):
                    total += off[j, a] * off[j, b]
                out[i, a, b] = out[i, b, a] = total / each
    return out


@njit("Tuple((f8[:,::1], f8[:,::1]))(f8[:,:,::1])", **COMPILED)
def thinnest(covariances):
    """Directions (k, 3) in which covariances (k, 3, 3) are least, and their principal values (k, 3), rising."""
    count = len(covariances)
    ways, values = np.empty((count, 3)), np.empty((count, 3))
    s, axes = np.empty((3, 3)), np.empty((3, 3))
    for i in range(count):
        for a in range(3):
            for b in range(3):
                s[a, b] = covariances[i, a, b]
                axes[a, b] = 1.0 if a == b else 0.0
        jacobi(s, axes)
        least = 0
        for k in range(1, 3):
            if s[k, k] < s[least, least]:
                least = k
        other, third = (least + 1) % 3, (least + 2) % 3
        values[i, 0] = s[least, least]
        values[i, 1] = min(s[other, other], s[third, third])
        values[i, 2] = max(s[other, other], s[third, third])
        length = 0.0
        for k in range(3):
            length += axes[k, least] ** 2
        for k in range(3):
            ways[i, k] = axes[k, least] / math.sqrt(length)
    return ways, values
