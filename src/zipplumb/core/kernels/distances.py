"""Signed distances to shapes in standard position, with what a descent needs of them.

Every shape answers for a point in its own axes (origin on the shape, z along its axis or
normal): the distance, its gradient by the point, and its derivatives by the sizes. How a
distance changes when the shape is shifted or turned a little follows from the gradient alone:
-(g . shift) - (p x g) . turn. Sign: + on a plane's normal side, or outside a round shape.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .codes import CONE, ELLIPSE, PLANE, ROUND_SLOT, SPHERE, TORUS, TUBE
from .compiled import COMPILED

TINY = 1e-300


@njit(**COMPILED)
def ellipse_foot(px, py, a, b):
    """Cosine and sine of the parameter of an ellipse's nearest point.

    Source: D. Eberly, "Distance from a point to an ellipse" (Geometric Tools, 2013): in the
    first quadrant the foot is the one root of a convex, falling function; Newton's method
    from its left end meets it from one side and cannot miss.
    """
    x, y = abs(px), abs(py)
    shift = max(a * x - a * a, b * y - b * b)
    for _ in range(100):
        p, q = a * x / (shift + a * a), b * y / (shift + b * b)
        value, slope = p * p + q * q - 1, -2 * (p * p / (shift + a * a) + q * q / (shift + b * b))
        if not (value > 0 and slope < 0):  # from the left of the root: rounding has carried it across
            break
        step = value / slope
        shift -= step
        if -step <= 4e-16 * (abs(shift) + max(a, b) ** 2):
            break
    cosine, sine = a * x / (shift + a * a), b * y / (shift + b * b)
    length = math.sqrt(cosine * cosine + sine * sine)
    if not length > 0:  # the middle of the shape: the nearer end
        cosine, sine, length = (1.0, 0.0, 1.0) if a < b else (0.0, 1.0, 1.0)
    return math.copysign(cosine / length, px), math.copysign(sine / length, py)


@njit(**COMPILED)
def answer(kind, x, y, z, s0, s1):
    """Distance, gradient (three numbers), and derivatives by the two sizes.

    Sizes: radius; a cone's radius where z = 0 and its half angle (it opens along +z); a torus's
    two radii; an ellipse's semi axes along x and y; a slot's length over all (along x) and width.
    """
    if kind == PLANE:
        return z, 0.0, 0.0, 1.0, 0.0, 0.0
    if kind == TUBE:
        across = math.sqrt(x * x + y * y)
        scale = 1 / max(across, TINY)
        return across - s0, x * scale, y * scale, 0.0, -1.0, 0.0
    if kind == SPHERE:
        away = math.sqrt(x * x + y * y + z * z)
        scale = 1 / max(away, TINY)
        return away - s0, x * scale, y * scale, z * scale, -1.0, 0.0
    if kind == CONE:
        cosine, sine = math.cos(s1), math.sin(s1)
        across = math.sqrt(x * x + y * y)
        scale, beyond = cosine / max(across, TINY), across - s0
        return beyond * cosine - z * sine, x * scale, y * scale, -sine, -cosine, -beyond * sine - z * cosine
    if kind == TORUS:
        across = math.sqrt(x * x + y * y)
        beyond = across - s0
        away = math.sqrt(beyond * beyond + z * z)
        outward = beyond / max(away, TINY)
        safe = max(across, TINY)
        return away - s1, x / safe * outward, y / safe * outward, z / max(away, TINY), -outward, -1.0
    if kind == ELLIPSE:
        cosine, sine = ellipse_foot(x, y, s0, s1)
        nx, ny = s1 * cosine, s0 * sine
        length = max(math.sqrt(nx * nx + ny * ny), TINY)
        nx, ny = nx / length, ny / length
        return (x - s0 * cosine) * nx + (y - s1 * sine) * ny, nx, ny, 0.0, -nx * cosine, -ny * sine
    if kind == ROUND_SLOT:
        along = max(abs(x) - (s0 - s1) / 2, 0.0)
        away = math.sqrt(along * along + y * y)
        share = along / max(away, TINY)
        gx = math.copysign(share, x)
        return away - s1 / 2, gx, y / max(away, TINY), 0.0, -share / 2, share / 2 - 0.5
    ends, sides = abs(x) - s0 / 2, abs(y) - s1 / 2  # a square slot: the side that is nearest
    if ends > sides:
        return ends, math.copysign(1.0, x), 0.0, 0.0, -0.5, 0.0
    return sides, 0.0, math.copysign(1.0, y), 0.0, 0.0, -0.5


@njit(**COMPILED)
def local(points, i, origin, axes):
    """Point i in the axes (columns of ``axes``) at ``origin``."""
    x, y, z = points[i, 0] - origin[0], points[i, 1] - origin[1], points[i, 2] - origin[2]
    return (
        axes[0, 0] * x + axes[1, 0] * y + axes[2, 0] * z,
        axes[0, 1] * x + axes[1, 1] * y + axes[2, 1] * z,
        axes[0, 2] * x + axes[1, 2] * y + axes[2, 2] * z,
    )


def _measurer(kind):
    """``signed_distances`` for one kind, so that its loop has no branch."""

    @njit(**COMPILED)
    def measure_one(points, origin, axes, sizes):
        out, ox, oy, oz, s0, s1 = np.empty(len(points)), origin[0], origin[1], origin[2], sizes[0], sizes[1]
        a00, a01, a02 = axes[0, 0], axes[0, 1], axes[0, 2]
        a10, a11, a12 = axes[1, 0], axes[1, 1], axes[1, 2]
        a20, a21, a22 = axes[2, 0], axes[2, 1], axes[2, 2]
        for i in range(len(points)):
            px, py, pz = points[i, 0] - ox, points[i, 1] - oy, points[i, 2] - oz
            x, y, z = a00 * px + a10 * py + a20 * pz, a01 * px + a11 * py + a21 * pz, a02 * px + a12 * py + a22 * pz
            out[i] = answer(kind, x, y, z, s0, s1)[0]
        return out

    return measure_one


D0, D1, D2, D3, D4, D5, D6, D7 = (_measurer(kind) for kind in range(8))


@njit("f8[::1](i8, f8[:,::1], f8[::1], f8[:,::1], f8[::1])", **COMPILED)
def signed_distances(kind, points, origin, axes, sizes):
    """Distances (n,) of points (n, 3) from a shape placed by its origin, axes and two sizes."""
    if kind == 0:
        return D0(points, origin, axes, sizes)
    if kind == 1:
        return D1(points, origin, axes, sizes)
    if kind == 2:
        return D2(points, origin, axes, sizes)
    if kind == 3:
        return D3(points, origin, axes, sizes)
    if kind == 4:
        return D4(points, origin, axes, sizes)
    if kind == 5:
        return D5(points, origin, axes, sizes)
    if kind == 6:
        return D6(points, origin, axes, sizes)
    return D7(points, origin, axes, sizes)


@njit("f8[:,::1](i8, f8[:,::1], f8[::1], f8[:,::1], f8[::1])", **COMPILED)
def gradients(kind, points, origin, axes, sizes):
    """Unit gradients (n, 3) of the distance by the point, in the frame of the points."""
    out = np.empty((len(points), 3))
    for i in range(len(points)):
        x, y, z = local(points, i, origin, axes)
        _, gx, gy, gz, _, _ = answer(kind, x, y, z, sizes[0], sizes[1])
        for k in range(3):
            out[i, k] = axes[k, 0] * gx + axes[k, 1] * gy + axes[k, 2] * gz
    return out


def _filler(kind):
    """``fill`` for one kind, so that its loop has no branch."""

    @njit(**COMPILED)
    def fill_one(points, start, n, origin, axes, sizes, part, rows):
        ox, oy, oz = origin[0], origin[1], origin[2]
        a00, a01, a02 = axes[0, 0], axes[0, 1], axes[0, 2]
        a10, a11, a12 = axes[1, 0], axes[1, 1], axes[1, 2]
        a20, a21, a22 = axes[2, 0], axes[2, 1], axes[2, 2]
        s0, s1 = sizes[0], sizes[1]
        for i in range(n):
            px, py, pz = points[start + i, 0] - ox, points[start + i, 1] - oy, points[start + i, 2] - oz
            x, y, z = a00 * px + a10 * py + a20 * pz, a01 * px + a11 * py + a21 * pz, a02 * px + a12 * py + a22 * pz
            d, gx, gy, gz, b0, b1 = answer(kind, x, y, z, s0, s1)
            part[i] = d
            rows[0, i], rows[1, i], rows[2, i] = -gx, -gy, -gz
            rows[3, i], rows[4, i], rows[5, i] = z * gy - y * gz, x * gz - z * gx, y * gx - x * gy
            rows[6, i], rows[7, i] = b0, b1

    return fill_one


F0, F1, F2, F3, F4, F5, F6, F7 = (_filler(kind) for kind in range(8))


@njit(**COMPILED)
def fill(kind, points, start, n, origin, axes, sizes, part, rows):
    """Distances ``part`` (n,) of n points from ``start`` on, and their derivatives ``rows`` (8, n).

    By the moves x y z rx ry rz, and by the two sizes.
    """
    if kind == 0:
        F0(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 1:
        F1(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 2:
        F2(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 3:
        F3(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 4:
        F4(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 5:
        F5(points, start, n, origin, axes, sizes, part, rows)
    elif kind == 6:
        F6(points, start, n, origin, axes, sizes, part, rows)
    else:
        F7(points, start, n, origin, axes, sizes, part, rows)


@njit("f8[:,::1](i8, f8[:,::1], f8[::1], f8[:,::1], f8[::1], i8[::1])", **COMPILED)
def jacobian_rows(kind, points, origin, axes, sizes, columns):
    """Derivatives (n, k) of the distances by the free parameters."""
    n = len(points)
    part, rows = np.empty(n), np.empty((8, n))
    fill(kind, points, 0, n, origin, axes, sizes, part, rows)
    out = np.empty((n, len(columns)))
    for i in range(n):
        for k in range(len(columns)):
            out[i, k] = rows[columns[k], i]
    return out
