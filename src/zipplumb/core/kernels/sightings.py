"""Loops over the sightings of a network: normal equations, and what each disagrees by."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED


@njit(**COMPILED)
def derivatives(white, turn, rel, scale, own, by_station, by_point):
    """Fill (3, 7) and (3, 3): of what is seen, in units of ``white``, by the station's motions and scale, and by the point."""
    for i in range(3):
        for c in range(3):
            by_point[i, c] = 0.0
            for k in range(3):
                by_point[i, c] += white[i, k] * turn[c, k] / scale
        x, y, z = by_point[i, 0], by_point[i, 1], by_point[i, 2]
        by_station[i, 0], by_station[i, 1], by_station[i, 2] = -x, -y, -z
        by_station[i, 3] = y * rel[2] - z * rel[1]
        by_station[i, 4] = z * rel[0] - x * rel[2]
        by_station[i, 5] = x * rel[1] - y * rel[0]
        by_station[i, 6] = -(white[i, 0] * own[0] + white[i, 1] * own[1] + white[i, 2] * own[2])


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
    a, b, rel, own, r = np.empty((3, 7)), np.empty((3, 3)), np.empty(3), np.empty(3), np.empty(3)
    for m in range(len(station)):
        k, j, w = station[m], point[m], weight[m]
        for i in range(3):
            rel[i] = places[j, i] - shift[k, i]
        for i in range(3):
            own[i] = (turn[k, 0, i] * rel[0] + turn[k, 1, i] * rel[1] + turn[k, 2, i] * rel[2]) / scale[k]
        derivatives(white[m], turn[k], rel, scale[k], own, a, b)
        for i in range(3):
            r[i] = 0.0
            for c in range(3):
                r[i] += white[m, i, c] * (own[c] - seen[m, c])
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
                for q in range(7):
                    to = columns[k, q]
                    if to >= 0:
                        stations[at, to] += value * a[i, q]
    return stations, blocks, between, right_s, right_p


@njit(
    "f8[::1](i8[::1], i8[::1], f8[:,:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1], f8[::1], f8[:,::1], i8[:,::1],"
    " f8[:,::1], f8[:,:,::1], f8[:,:,::1])",
    **COMPILED,
)
def disagreements(station, point, white, seen, turn, shift, scale, places, columns, q_stations, q_points, q_between):
    """By how many sigmas (m,) each sighting is off: the root mean square of three components.

    A residual's covariance is that of the sighting, here the unit matrix, less that of what was
    worked out for it. ``q_stations`` (size, size), ``q_points`` (p, 3, 3), ``q_between`` (p, 3, size).
    """
    out = np.empty(len(station))
    a, b, rel, own, r = np.empty((3, 7)), np.empty((3, 3)), np.empty(3), np.empty(3), np.empty(3)
    left, half = np.empty((3, 3)), np.empty((3, 10))
    for m in range(len(station)):
        k, j = station[m], point[m]
        for i in range(3):
            rel[i] = places[j, i] - shift[k, i]
        for i in range(3):
            own[i] = (turn[k, 0, i] * rel[0] + turn[k, 1, i] * rel[1] + turn[k, 2, i] * rel[2]) / scale[k]
        derivatives(white[m], turn[k], rel, scale[k], own, a, b)
        for i in range(3):
            r[i] = 0.0
            for c in range(3):
                r[i] += white[m, i, c] * (own[c] - seen[m, c])
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
