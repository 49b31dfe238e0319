"""Pairs of oriented points by how they lie to each other, and votes for where a part is.

B. Drost, M. Ulrich, N. Navab, S. Ilic, "Model globally, match locally: efficient and robust 3D object recognition", CVPR
2010: two points with their normals are told by their distance and three angles; each pair of the scene that is like a pair of
the model votes for the point of the model that it starts from, and for a turn about its normal.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED

ANGLES = 12  # steps of half a turn
TURNS = 36  # steps of a whole turn
FLAT_COS = 0.985  # two points of one plane tell nothing


@njit("f8(f8)", **COMPILED)
def _angle(cosine):
    return math.acos(min(1.0, max(-1.0, cosine)))


@njit("i8(f8[:], f8[:], f8[:], f8[:], f8)", **COMPILED)
def key_of(p, n, q, m, step):
    """The name of a pair; -1 where it tells nothing: both on one plane, or in one place."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    far = math.sqrt(dx * dx + dy * dy + dz * dz)
    if far < 1e-9:
        return -1
    first = (n[0] * dx + n[1] * dy + n[2] * dz) / far
    second = (m[0] * dx + m[1] * dy + m[2] * dz) / far
    both = n[0] * m[0] + n[1] * m[1] + n[2] * m[2]
    if both > FLAT_COS and abs(first) < math.sqrt(1.0 - FLAT_COS * FLAT_COS):
        return -1
    a, b, c = _angle(first), _angle(second), _angle(both)
    steps = ANGLES / math.pi
    last = ANGLES - 1
    key = int(far / step)
    for angle in (a, b, c):
        key = key * ANGLES + min(last, int(angle * steps))
    return key


@njit("f8[:, :](f8[:])", **COMPILED)
def axes_of(n):
    """Rows: a normal, and two ways across it."""
    found = np.empty((3, 3))
    k = 0
    for i in range(3):
        if abs(n[i]) < abs(n[k]):
            k = i
    u = np.zeros(3)
    u[k] = 1.0
    off = n[k]
    size = math.sqrt(1.0 - off * off)
    for i in range(3):
        found[0, i] = n[i]
        found[1, i] = (u[i] - off * n[i]) / size
    found[2, 0] = found[0, 1] * found[1, 2] - found[0, 2] * found[1, 1]
    found[2, 1] = found[0, 2] * found[1, 0] - found[0, 0] * found[1, 2]
    found[2, 2] = found[0, 0] * found[1, 1] - found[0, 1] * found[1, 0]
    return found


@njit("f8(f8[:, :], f8[:], f8[:])", **COMPILED)
def turn_of(axes, p, q):
    """Where the second point stands round the first one's normal."""
    u = v = 0.0
    for i in range(3):
        d = q[i] - p[i]
        u += axes[1, i] * d
        v += axes[2, i] * d
    return math.atan2(v, u)


@njit("Tuple((i8[:], i8[:], f8[:]))(f8[:, :], f8[:, :], f8)", **COMPILED)
def pairs_of(points, normals, step):
    """All pairs of a model: their names, the points that they start from, and where round these the others stand."""
    count = len(points)
    keys = np.empty(count * count, np.int64)
    starts = np.empty(count * count, np.int64)
    turns = np.empty(count * count)
    made = 0
    for i in range(count):
        axes = axes_of(normals[i])
        for j in range(count):
            key = key_of(points[i], normals[i], points[j], normals[j], step)
            if key >= 0:
                keys[made], starts[made], turns[made] = key, i, turn_of(axes, points[i], points[j])
                made += 1
    return keys[:made], starts[:made], turns[:made]


@njit("f8[:, :](i8, f8[:, :], f8[:, :], i8[:], i8[:], f8[:], i8, f8)", **COMPILED)
def votes(ref, points, normals, keys, starts, turns, count, step):
    """(count, TURNS) votes of a scene's pairs that start from one of its points; ``keys`` of the model's pairs rise."""
    found = np.zeros((count, TURNS))
    axes = axes_of(normals[ref])
    whole = 2 * math.pi
    for j in range(len(points)):
        key = key_of(points[ref], normals[ref], points[j], normals[j], step)
        if key < 0:
            continue
        first = np.searchsorted(keys, key)
        last = np.searchsorted(keys, key + 1)
        if first == last:
            continue
        here = turn_of(axes, points[ref], points[j])
        weight = 1.0 / (last - first)  # what is common tells little
        for k in range(first, last):
            turn = (turns[k] - here) / whole
            turn -= math.floor(turn)
            found[starts[k], int(turn * TURNS) % TURNS] += weight
    return found
