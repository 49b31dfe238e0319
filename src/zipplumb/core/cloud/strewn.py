"""Circles among places in a plane of which many belong to something else."""

from __future__ import annotations

import numpy as np
from numpy.random import Generator
from scipy.spatial import cKDTree

from ..frames import Array, Indices

DRAWS, BESIDE = 400, 40  # circles that are looked at, through places among so many beside each other
LEAST_MM, ON_IT_MM = 1.0, 0.3  # radius; places on a circle lie so near to it
FEWEST, STRAIGHT = 12, 1e-9


def circle_among(flat: Array, inward: Array, random: Generator) -> tuple[Array, float, Indices] | None:
    """Center (2,), radius and places of the circle on which most places (n, 2) lie; None where there is none.

    ``inward`` (n, 2): into the material, which lies outside of it.

    Notes
    -----
    Circles through three places near to each other, drawn at random: M. Fischler, R. Bolles, "Random sample consensus", Comm.
    ACM 24 (1981).
    """
    if len(flat) < FEWEST:
        return None
    _, beside = cKDTree(flat).query(flat, min(BESIDE, len(flat)))
    first = random.integers(len(flat), size=DRAWS)
    centers, radii = _through_three(flat[beside[first[:, None], random.integers(beside.shape[1], size=(DRAWS, 3))]])
    good = (radii > LEAST_MM) & (radii < np.ptp(flat, axis=0).max())
    if not good.any():
        return None
    centers, radii = centers[good], radii[good]
    rel = flat[None] - centers[:, None]
    off = np.linalg.norm(rel, axis=2) - radii[:, None]
    on_it = (np.abs(off) < ON_IT_MM) & (np.einsum("dni,ni->dn", rel, inward) > 0)
    best = int(np.argmax(on_it.sum(axis=1)))
    return centers[best], float(radii[best]), np.flatnonzero(on_it[best])


def _through_three(threes: Array) -> tuple[Array, Array]:
    """Centers (d, 2) and radii (d,) of the circles through three places (d, 3, 2); infinite where they lie on one line."""
    a, b, c = np.moveaxis(threes, 1, 0)
    ab, ac = b - a, c - a
    twice = 2 * (ab[:, 0] * ac[:, 1] - ab[:, 1] * ac[:, 0])
    with np.errstate(divide="ignore", invalid="ignore"):
        bb, cc = (ab**2).sum(axis=1), (ac**2).sum(axis=1)
        off = np.column_stack([ac[:, 1] * bb - ab[:, 1] * cc, ab[:, 0] * cc - ac[:, 0] * bb]) / twice[:, None]
        off[np.abs(twice) < STRAIGHT] = np.inf
    return a + off, np.linalg.norm(off, axis=1)
