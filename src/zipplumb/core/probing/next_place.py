"""Where the next hit tells the most."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..fitting import Placed
from ..fitting.placed import columns_of
from ..frames import Array
from ..shapes import Line

ENOUGH = 0.5  # of what the best place tells
LITTLE = 1e-6


def next_place(shape: Any, spots: Array, taken: Array) -> int:
    """The spot where a next hit tells the most of a shape, and of those that tell about as much the farthest from all hits.

    Parameters
    ----------
    shape : what is to be measured; None: of no shape, and all places tell as much
    spots : (m, 3) where it can be touched
    taken : (n, 3) where it was

    Notes
    -----
    What a hit tells is the variance of the distance there by the hits that are taken: the largest is where the next one
    lessens the volume of the parameters' uncertainty the most. Source: H. P. Wynn, "The sequential generation of D-optimum
    experimental designs", Annals of Mathematical Statistics 41 (1970).
    """
    rows = _rows(shape, spots)
    scale = np.maximum(np.abs(rows).max(axis=0), 1e-12)  # mm and rad alike
    rows = rows / scale
    told = _rows(shape, np.reshape(taken, (-1, 3))) / scale
    normal = told.T @ told + LITTLE * np.eye(rows.shape[1])
    variance = np.einsum("mi,ij,mj->m", rows, np.linalg.inv(normal), rows)
    apart = np.ones(len(spots))
    if len(taken):
        apart = np.linalg.norm(spots[:, None] - np.asarray(taken)[None], axis=2).min(axis=1)
    return int(np.argmax(np.where(variance >= ENOUGH * variance.max(), apart, -1.0)))


def _rows(shape: Any, points: Array) -> Array:
    """How the distances (n, k) of hits answer to the shape's parameters."""
    if shape is None:
        return np.ones((len(points), 1))
    if isinstance(shape, Line):  # in its plane: a shift and a turn
        along = (points - shape.point) @ shape.direction
        return np.column_stack([np.ones(len(points)), along])
    placed = Placed.of(shape)
    return placed.rows(np.ascontiguousarray(points, float), columns_of(placed.kind))


def places_in_order(shape: Any, spots: Array, count: int) -> Array:
    """So many spots (count, 3), each where it tells the most after those before."""
    chosen: list[int] = []
    for _ in range(min(count, len(spots))):
        chosen.append(next_place(shape, spots, spots[chosen]))
    return np.asarray(spots[chosen])
