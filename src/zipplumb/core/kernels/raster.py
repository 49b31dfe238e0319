"""Filling triangles on a grid of pixels, the nearest in front, and painting places upon them.

Published: J. Pineda, "A parallel algorithm for polygon rasterization", Computer Graphics 22 (1988): a pixel is inside where
three edge functions agree in sign; what varies over a triangle is their weighted mean.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED


@njit("void(f8[:,::1], f8[::1], u4[:,::1], f4[:,::1], i4[:,::1], f4[:,::1])", **COMPILED)
def fill(corners, shades, triangles, depth, of, shade):
    """Write the depth, number and shade of the nearest triangle at the middle of every pixel.

    ``corners`` (n, 3): x to the right and y down in pixels, and depth; ``shades`` (n,). ``depth`` (h, w) comes infinite and
    ``of`` as -1.
    """
    high, wide = depth.shape
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by, cx, cy = corners[a, 0], corners[a, 1], corners[b, 0], corners[b, 1], corners[c, 0], corners[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        left = max(math.ceil(min(ax, bx, cx) - 0.5), 0)
        right = min(math.floor(max(ax, bx, cx) - 0.5), wide - 1)
        top = max(math.ceil(min(ay, by, cy) - 0.5), 0)
        low = min(math.floor(max(ay, by, cy) - 0.5), high - 1)
        for row in range(top, low + 1):
            y = row + 0.5
            for column in range(left, right + 1):
                x = column + 0.5
                p = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
                q = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
                r = 1.0 - p - q
                if p < 0.0 or q < 0.0 or r < 0.0:
                    continue
                z = p * corners[a, 2] + q * corners[b, 2] + r * corners[c, 2]
                if z < depth[row, column]:
                    depth[row, column] = z
                    of[row, column] = t
                    shade[row, column] = p * shades[a] + q * shades[b] + r * shades[c]


@njit("void(f8[:,::1], i4[::1], f8, f8, f4[:,::1], f4[:,::1], i4[:,::1])", **COMPILED)
def paint(places, colors, half, near, depth, away, painted):
    """Write the color of the nearest place within ``half`` pixels, on pixels whose depth is within ``near`` of its own.

    ``places`` (n, 3) as corners are; ``away`` (h, w) comes infinite: how far, squared, the place is that was painted last.
    """
    high, wide = depth.shape
    for k in range(len(places)):
        x, y, z = places[k, 0], places[k, 1], places[k, 2]
        for row in range(max(math.ceil(y - half - 0.5), 0), min(math.floor(y + half - 0.5), high - 1) + 1):
            for column in range(max(math.ceil(x - half - 0.5), 0), min(math.floor(x + half - 0.5), wide - 1) + 1):
                far = (column + 0.5 - x) ** 2 + (row + 0.5 - y) ** 2
                if far < away[row, column] and abs(z - depth[row, column]) <= near:
                    away[row, column] = far
                    painted[row, column] = colors[k]


@njit("u1[:,:,::1](i4[:,::1], f4[:,::1], i4[:,::1], f8[:,::1], u1[:,::1], u1[::1])", **COMPILED)
def tinted(faces, shade, painted, tints, steps, paper):
    """(h, w, 3) colors: what is painted (h, w) by ``steps`` (k, 3); else the ``tints`` (n, 3) of the faces, up to 255, times
    their shade (h, w); else the paper (3,). A number below 0: nothing there.
    """
    high, wide = faces.shape
    image = np.empty((high, wide, 3), np.uint8)
    for row in range(high):
        for column in range(wide):
            paint, face = painted[row, column], faces[row, column]
            for k in range(3):
                if paint >= 0:
                    image[row, column, k] = steps[paint, k]
                elif face >= 0:
                    image[row, column, k] = np.uint8(min(tints[face, k] * shade[row, column], 255.0))
                else:
                    image[row, column, k] = paper[k]
    return image
