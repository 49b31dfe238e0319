"""Which blocks of a grid triangles pass through."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .compiled import COMPILED


@njit("void(f8[:,:,::1], i4[::1], f8[::1], f8, i4[:,:,::1], i4[:,:,::1])", **COMPILED)
def mark_blocks(corners, labels, low, size, least, most):
    """Write the labels of triangles (t, 3, 3) into the blocks, ``size`` wide from ``low`` on, that they pass through: the
    least and the greatest that a block has. Some blocks beside them are marked too, none is left out."""
    grid = np.array(least.shape)
    first, last = np.empty(3, np.int64), np.empty(3, np.int64)
    for t in range(len(corners)):
        longest = 0.0
        for e in range(3):
            off = 0.0
            for k in range(3):
                off += (corners[t, e, k] - corners[t, (e + 1) % 3, k]) ** 2
            longest = max(longest, off)
        pieces = max(1, math.ceil(math.sqrt(longest) / size))
        for i in range(pieces):
            for j in range(pieces - i):
                for up in range(2 if i + j < pieces - 1 else 1):
                    for k in range(3):
                        a = corners[t, 0, k]
                        b, c = (corners[t, 1, k] - a) / pieces, (corners[t, 2, k] - a) / pieces
                        if up == 0:
                            x, y, z = a + i * b + j * c, a + (i + 1) * b + j * c, a + i * b + (j + 1) * c
                        else:
                            x, y, z = a + (i + 1) * b + (j + 1) * c, a + (i + 1) * b + j * c, a + i * b + (j + 1) * c
                        first[k] = min(max(math.floor((min(x, y, z) - low[k]) / size), 0), grid[k] - 1)
                        last[k] = min(max(math.floor((max(x, y, z) - low[k]) / size), 0), grid[k] - 1)
                    for p in range(first[0], last[0] + 1):
                        for q in range(first[1], last[1] + 1):
                            for r in range(first[2], last[2] + 1):
                                least[p, q, r] = min(least[p, q, r], labels[t])
                                most[p, q, r] = max(most[p, q, r], labels[t])
