"""Where a descent should begin: many axis directions judged, the best few followed.

For every direction the points are seen end on, and a closed form gives the shape along it:
its circle (I. Kasa, IEEE Trans. Instrum. Meas. 25 (1976): linear, biased, good enough to
begin with), and for cones and tori the profile in the half plane through the axis.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .codes import CONE, ELLIPSE, TORUS, TUBE
from .compiled import COMPILED
from .descent import descend
from .distances import answer, local

ALIKE = 0.97  # cosine above which two directions lead to the same valley


@njit("Tuple((f8, f8, f8))(f8[:], f8[:])", **COMPILED)
def kasa(x, y):
    """Center and radius of the algebraic circle; radius infinite for points on one line."""
    n = len(x)
    mx, my = x.mean(), y.mean()
    uu = vv = uv = du = dv = 0.0
    for i in range(n):
        u, v = x[i] - mx, y[i] - my
        square = u * u + v * v
        uu, vv, uv = uu + u * u, vv + v * v, uv + u * v
        du, dv = du + u * square, dv + v * square
    det = uu * vv - uv * uv
    if not det > 1e-14 * (uu + vv) ** 2:
        return mx, my, math.inf
    a, b = (du * vv - dv * uv) / det / 2, (dv * uu - du * uv) / det / 2
    return a + mx, b + my, math.sqrt(a * a + b * b + (uu + vv) / n)


@njit("f8[:,::1](f8[::1])", **COMPILED)
def basis(d):
    """Axes (3, 3), columns, whose z is the direction d.

    Source: Duff et al., "Building an orthonormal basis, revisited", JCGT 6 (2017).
    """
    sign = math.copysign(1.0, d[2])
    a = -1.0 / (sign + d[2])
    b = d[0] * d[1] * a
    return np.array(
        [[1.0 + sign * d[0] * d[0] * a, b, d[0]], [sign * b, sign + d[1] * d[1] * a, d[1]], [-sign * d[0], -d[1], d[2]]]
    )


@njit(**COMPILED)
def profile_line(z, across, turned):
    """Radius at z = 0, half angle and cost of the straight profile of a cone.

    ``turned``: z regressed on the radius, as flat cones want it, instead of the radius on z.
    """
    mz, mr = z.mean(), across.mean()
    zz = rr = zr = 0.0
    for i in range(len(z)):
        u, v = z[i] - mz, across[i] - mr
        zz, rr, zr = zz + u * u, rr + v * v, zr + u * v
    half = math.atan2(rr, zr) if turned else math.atan(zr / max(zz, 1e-300))
    if half > math.pi / 2:
        half -= math.pi
    cosine, sine, cost = math.cos(half), math.sin(half), 0.0
    for i in range(len(z)):
        off = (across[i] - mr) * cosine - (z[i] - mz) * sine
        cost += off * off
    return mr - mz * math.tan(half), half, cost


@njit(**COMPILED)
def judged(kind, points, direction, sizes):
    """Cost, origin and axes of the best shape along a direction; fills ``sizes``."""
    axes = basis(direction)
    n = len(points)
    x, y, z, across = np.empty(n), np.empty(n), np.empty(n), np.empty(n)
    for i in range(n):
        x[i] = axes[0, 0] * points[i, 0] + axes[1, 0] * points[i, 1] + axes[2, 0] * points[i, 2]
        y[i] = axes[0, 1] * points[i, 0] + axes[1, 1] * points[i, 1] + axes[2, 1] * points[i, 2]
        z[i] = axes[0, 2] * points[i, 0] + axes[1, 2] * points[i, 1] + axes[2, 2] * points[i, 2]
    a, b, r = kasa(x, y)
    if not r < math.inf:
        return math.inf, np.zeros(3), axes
    for i in range(n):
        across[i] = math.sqrt((x[i] - a) ** 2 + (y[i] - b) ** 2)
    cost, height = 0.0, 0.0
    if kind == TUBE:
        sizes[0] = r
        for i in range(n):
            cost += (across[i] - r) ** 2
    elif kind == CONE:
        radius, half, cost = profile_line(z, across, False)
        other_radius, other_half, other = profile_line(z, across, True)
        if other < cost:
            radius, half, cost = other_radius, other_half, other
        sizes[0], sizes[1] = radius, half
    elif kind == TORUS:
        major, height, minor = kasa(across, z)
        if not minor < math.inf:
            return math.inf, np.zeros(3), axes
        sizes[0], sizes[1] = major, minor
        for i in range(n):
            cost += (math.sqrt((across[i] - major) ** 2 + (z[i] - height) ** 2) - minor) ** 2
    origin = np.empty(3)
    for k in range(3):
        origin[k] = axes[k, 0] * a + axes[k, 1] * b + axes[k, 2] * height
    return cost, origin, axes


@njit(
    "Tuple((f8[::1], f8[:,::1], f8[::1], f8))(i8, f8[:,::1], f8[:,::1], i8, i8[::1], f8[::1], f8[::1], f8[::1], f8, i8)",
    **COMPILED,
)
def search(kind, points, directions, count, columns, held, place, hint, offset, iterations):
    """The lowest shape that descents from the best directions lead to.

    Parameters
    ----------
    kind : TUBE, CONE or TORUS of CODES
    points : (n, 3), few, centered on their middle
    directions : (m, 3) units
    count : so many of them, unlike one another, are followed
    columns : the free parameters, as in ``descend``
    held : (2,) sizes that are given; NaN where they are free
    place : (3,) a point that the axis goes through; NaN where it is free
    hint : (3,) direction that decides among shapes that fit equally well; NaN for none
    offset, iterations : as in ``descend``

    Returns
    -------
    origin, axes, sizes, cost; the cost is infinite where nothing was found
    """
    m, n = len(directions), len(points)
    costs, origins, frames, sizes = np.empty(m), np.empty((m, 3)), np.empty((m, 3, 3)), np.zeros((m, 2))
    for k in range(m):
        costs[k], origins[k], frames[k] = judged(kind, points, directions[k], sizes[k])
        sizes[k, 1 if kind == TORUS else 0] -= offset if kind != CONE else 0.0
        for s in range(2):
            if not math.isnan(held[s]):
                sizes[k, s] = held[s]
        if not math.isnan(place[0]):
            origins[k] = place
    best_origin, best_axes, best_sizes, best, best_turn = np.zeros(3), np.eye(3), np.zeros(2), math.inf, -1.0
    chosen = np.empty(count, np.int64)
    followed = 0
    for k in np.argsort(costs):
        if followed == count or not costs[k] < math.inf:
            break
        new = True
        for c in range(followed):
            other = directions[chosen[c]]
            along = directions[k, 0] * other[0] + directions[k, 1] * other[1] + directions[k, 2] * other[2]
            new = new and abs(along) < ALIKE
        if not new:
            continue
        chosen[followed] = k
        followed += 1
        origin, axes, found, cost, _, _ = descend(
            kind, points, origins[k].copy(), frames[k].copy(), sizes[k].copy(), columns, offset, 1e-6, iterations
        )
        if not math.isfinite(cost) or not math.isfinite(found[0]) or not math.isfinite(found[1]):
            continue
        turn = 0.0 if math.isnan(hint[0]) else abs(axes[0, 2] * hint[0] + axes[1, 2] * hint[1] + axes[2, 2] * hint[2])
        equal = max(cost, best) < 1e-12 * n
        if (turn > best_turn) if equal else (cost < best):
            best_origin, best_axes, best_sizes, best, best_turn = origin, axes, found, cost, turn
    return best_origin, best_axes, best_sizes, best


@njit(
    "Tuple((f8[::1], f8[:,::1], f8[::1], f8))(i8, f8[:,::1], f8[::1], i8, i8[::1], f8[::1], f8[::1], f8, i8)",
    **COMPILED,
)
def search_boxes(kind, points, angles, count, columns, held, place, offset, iterations):
    """The lowest 2D outline that descents from boxes round the points, turned in steps, lead to.

    Parameters
    ----------
    kind : an ellipse or a slot of CODES; the longer side of a box is its length
    points : (n, 3), few, flat: z is 0
    angles : of the boxes' long sides, rad
    count : so many of them, those that fit best as they are, are followed
    held, place, offset, iterations : as in ``search``

    Returns
    -------
    origin, axes, sizes, cost; the cost is infinite where nothing was found
    """
    m = len(angles)
    costs, origins, frames, found = np.full(m, math.inf), np.empty((m, 3)), np.empty((m, 3, 3)), np.empty((m, 2))
    for k in range(m):
        c, s = math.cos(angles[k]), math.sin(angles[k])
        x0 = y0 = math.inf
        x1 = y1 = -math.inf
        for i in range(len(points)):
            x, y = c * points[i, 0] + s * points[i, 1], c * points[i, 1] - s * points[i, 0]
            x0, x1, y0, y1 = min(x0, x), max(x1, x), min(y0, y), max(y1, y)
        length, width = x1 - x0 - 2 * offset, y1 - y0 - 2 * offset
        if not (length >= width > 0 or (m == 1 and length > 0 < width)):
            continue
        frames[k] = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
        middle_x, middle_y = (x0 + x1) / 2, (y0 + y1) / 2
        origins[k] = np.array([c * middle_x - s * middle_y, s * middle_x + c * middle_y, 0.0])
        found[k] = np.array([length, width]) / (2.0 if kind == ELLIPSE else 1.0)
        for j in range(2):
            if not math.isnan(held[j]):
                found[k, j] = held[j]
        if not math.isnan(place[0]):
            origins[k] = place
        costs[k] = 0.0
        for i in range(len(points)):
            x, y, z = local(points, i, origins[k], frames[k])
            costs[k] += (answer(kind, x, y, z, found[k, 0], found[k, 1])[0] - offset) ** 2
    best_origin, best_axes, best_sizes, best = np.zeros(3), np.eye(3), np.zeros(2), math.inf
    for k in np.argsort(costs)[:count]:
        if not costs[k] < math.inf:
            break
        origin, axes, sizes, cost, _, _ = descend(
            kind, points, origins[k].copy(), frames[k].copy(), found[k].copy(), columns, offset, 1e-6, iterations
        )
        if math.isfinite(cost) and math.isfinite(sizes[0]) and math.isfinite(sizes[1]) and cost < best * (1 - 1e-12):
            best_origin, best_axes, best_sizes, best = origin, axes, sizes, cost
    return best_origin, best_axes, best_sizes, best
