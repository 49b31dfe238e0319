"""Loops over the sightings of a network: normal equations, and what each disagrees by."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED


@njit(**COMPILED)
def look(white, seen, turn, shift, scale, place, by_station, by_point, r):
    """One sighting, in units of its uncertainty: its residual (3,), and its derivatives.

    (3, 7) by the station's slide, turn and scale, and (3, 3) by the point.
    """
    x, y, z = place[0] - shift[0], place[1] - shift[1], place[2] - shift[2]
    u = (turn[0, 0] * x + turn[1, 0] * y + turn[2, 0] * z) / scale
    v = (turn[0, 1] * x + turn[1, 1] * y + turn[2, 1] * z) / scale
    w = (turn[0, 2] * x + turn[1, 2] * y + turn[2, 2] * z) / scale
    for i in range(3):
        for c in range(3):
            by_point[i, c] = (white[i, 0] * turn[c, 0] + white[i, 1] * turn[c, 1] + white[i, 2] * turn[c, 2]) / scale
        p, q, s = by_point[i, 0], by_point[i, 1], by_point[i, 2]
        by_station[i, 0], by_station[i, 1], by_station[i, 2] = -p, -q, -s
        by_station[i, 3], by_station[i, 4], by_station[i, 5] = q * z - s * y, s * x - p * z, p * y - q * x
        by_station[i, 6] = -(white[i, 0] * u + white[i, 1] * v + white[i, 2] * w)
        r[i] = white[i, 0] * (u - seen[0]) + white[i, 1] * (v - seen[1]) + white[i, 2] * (w - seen[2])


@njit("f8[:,:,::1](f8[:,:,::1])", **COMPILED)
def whitening(covariances):
    """Inverse Cholesky factors (m, 3, 3) of covariances (m, 3, 3); NaN where one is no covariance."""
    out = np.zeros_like(covariances)
    for m in range(len(covariances)):
        c = covariances[m]
        a = math.sqrt(c[0, 0]) if c[0, 0] > 0 else math.nan
        b, d = c[1, 0] / a, c[2, 0] / a
        e = c[1, 1] - b * b
        e = math.sqrt(e) if e > 0 else math.nan
        f = (c[2, 1] - d * b) / e
        g = c[2, 2] - d * d - f * f
        g = math.sqrt(g) if g > 0 else math.nan
        out[m, 0, 0], out[m, 1, 1], out[m, 2, 2] = 1 / a, 1 / e, 1 / g
        out[m, 1, 0] = -b / (a * e)
        out[m, 2, 1] = -f / (e * g)
        out[m, 2, 0] = (b * f - d * e) / (a * e * g)
    return out


@njit(
    "Tuple((f8[:,::1], f8[:,:,::1], f8[:,:,::1], f8[::1], f8[:,::1]))"
    "(i8[::1], i8[::1], f8[:,:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1], f8[::1], f8[:,::1], i8[:,::1], f8[::1], i8)",
    **COMPILED,
)
def sighting_equations(station, point, white, seen, turn, shift, scale, places, columns, weight, size):
    """Blocks of the normal equations of sightings.

    Parameters
    ----------
    station, point : (m,) numbers
    white, seen : (m, 3, 3) inverse Cholesky factors, (m, 3) places in the station's axes
    turn, shift, scale : (s, 3, 3), (s, 3), (s,) world from station
    places : (p, 3)
    columns : (s, 7) where a station's slide, turn and scale stand among the unknowns; -1 where they are held
    weight : (m,)
    size : number of unknowns of the stations

    Returns
    -------
    stations (size, size), points (p, 3, 3), between (p, 3, size), right sides (size,) and (p, 3)
    """
    count = len(places)
    stations, right_s = np.zeros((size, size)), np.zeros(size)
    blocks, between, right_p = np.zeros((count, 3, 3)), np.zeros((count, 3, size)), np.zeros((count, 3))
    a, b, r = np.empty((3, 7)), np.empty((3, 3)), np.empty(3)
    for m in range(len(station)):
        k, j, w = station[m], point[m], weight[m]
        look(white[m], seen[m], turn[k], shift[k], scale[k], places[j], a, b, r)
        for c in range(3):
            for i in range(3):
                right_p[j, c] += w * b[i, c] * r[i]
                for d in range(3):
                    blocks[j, c, d] += w * b[i, c] * b[i, d]
        for p in range(7):
            at = columns[k, p]
            if at < 0:
                continue
            for i in range(3):
                value = w * a[i, p]
                right_s[at] += value * r[i]
                for c in range(3):
                    between[j, c, at] += value * b[i, c]
                for q in range(p + 1):
                    to = columns[k, q]
                    if to >= 0:
                        stations[at, to] += value * a[i, q]
    for p in range(size):
        for q in range(p):
            stations[q, p] = stations[p, q]
    return stations, blocks, between, right_s, right_p


@njit(
    "f8[::1](i8[::1], i8[::1], f8[:,:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1], f8[::1], f8[:,::1], i8[:,::1],"
    " f8[:,::1], f8[:,:,::1], f8[:,:,::1])",
    **COMPILED,
)
def disagreements(station, point, white, seen, turn, shift, scale, places, columns, q_stations, q_points, q_between):
    """Normalised residual (m,) of each sighting: the root mean square of three components.

    A residual's covariance is that of the sighting, here the unit matrix, less that of what was
    worked out for it. ``q_stations`` (size, size), ``q_points`` (p, 3, 3), ``q_between`` (p, 3, size).
    """
    out = np.empty(len(station))
    a, b, r = np.empty((3, 7)), np.empty((3, 3)), np.empty(3)
    left, half = np.empty((3, 3)), np.empty((3, 10))
    for m in range(len(station)):
        k, j = station[m], point[m]
        look(white[m], seen[m], turn[k], shift[k], scale[k], places[j], a, b, r)
        for i in range(3):  # half = [A B] Q of this station and point
            for q in range(7):
                half[i, q] = 0.0
                to = columns[k, q]
                if to < 0:
                    continue
                for p in range(7):
                    at = columns[k, p]
                    if at >= 0:
                        half[i, q] += a[i, p] * q_stations[at, to]
                for c in range(3):
                    half[i, q] += b[i, c] * q_between[j, c, to]
            for c in range(3):
                half[i, 7 + c] = 0.0
                for p in range(7):
                    at = columns[k, p]
                    if at >= 0:
                        half[i, 7 + c] += a[i, p] * q_between[j, c, at]
                for d in range(3):
                    half[i, 7 + c] += b[i, d] * q_points[j, d, c]
        for i in range(3):
            for d in range(3):
                value = 1.0 + 1e-9 if i == d else 0.0
                for q in range(7):
                    value -= half[i, q] * a[d, q]
                for c in range(3):
                    value -= half[i, 7 + c] * b[d, c]
                left[i, d] = value
        # r' left^-1 r by Cholesky; a component that nothing else controls counts as nothing
        square = 0.0
        for i in range(3):
            for d in range(i):
                for c in range(d):
                    left[i, d] -= left[i, c] * left[d, c]
                left[i, d] /= left[d, d]
            for c in range(i):
                left[i, i] -= left[i, c] * left[i, c]
            left[i, i] = math.sqrt(left[i, i]) if left[i, i] > 1e-8 else math.inf
            for c in range(i):
                r[i] -= left[i, c] * r[c]
            r[i] /= left[i, i]
            square += r[i] * r[i]
        out[m] = math.sqrt(square / 3)
    return out
