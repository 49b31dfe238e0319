"""The nearest places on a curve of cubics, by Newton's iteration on the two that meet at the nearest point."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED

FEET, STILL = 8, 1e-7  # rounds by which a foot settles; shares of a piece that are nothing


@njit("f8(f8[:,:,::1], i8, f8[::1], f8[::1])", **COMPILED)
def _share(cubics, piece, point, foot):
    """The share of the foot on one cubic, and the foot itself."""
    t = 0.5
    for turn in range(FEET + 1):
        slope, square, curved = 0.0, 0.0, 0.0
        for k in range(3):
            a, b, c, d = cubics[0, piece, k], cubics[1, piece, k], cubics[2, piece, k], cubics[3, piece, k]
            foot[k] = ((d * t + c) * t + b) * t + a
            first, second = (3 * d * t + 2 * c) * t + b, 6 * d * t + 2 * c
            off = foot[k] - point[k]
            slope += off * first
            square += first * first
            curved += first * first + off * second
        if turn == FEET:
            break
        before = t
        t = min(max(t - slope / (curved if curved > 0.1 * square else square), 0.0), 1.0)
        if abs(t - before) < STILL and turn > 0:
            for k in range(3):
                a, b, c, d = cubics[0, piece, k], cubics[1, piece, k], cubics[2, piece, k], cubics[3, piece, k]
                foot[k] = ((d * t + c) * t + b) * t + a
            break
    return t


@njit("UniTuple(f8[:,::1], 2)(f8[:,::1], i8[::1], f8[:,:,::1], i8[::1], f8[:,::1])", **COMPILED)
def feet_on(points, after, cubics, begins, normals):
    """Feet (n, 3) of points and unit normals (n, 3) there.

    Parameters
    ----------
    after : (n,) the cubic that begins at or after the nearest point of the curve; the one before it is tried too
    cubics : (4, k, 3) coefficients by the share of each, the constant first; ``begins``: (k,) rows of ``normals`` at which
        they begin
    """
    feet, found = np.empty_like(points), np.empty_like(points)
    foot = np.empty(3)
    for i in range(len(points)):
        best = math.inf
        for each in range(after[i] - 1, after[i] + 1):
            piece = min(max(each, 0), len(begins) - 1)
            t = _share(cubics, piece, points[i], foot)
            off = 0.0
            for k in range(3):
                off += (foot[k] - points[i, k]) ** 2
            if off >= best:
                continue
            best, row, size = off, begins[piece], 0.0
            for k in range(3):
                feet[i, k] = foot[k]
                found[i, k] = (1 - t) * normals[row, k] + t * normals[row + 1, k]
                size += found[i, k] ** 2
            for k in range(3):
                found[i, k] /= math.sqrt(size)
    return feet, found
