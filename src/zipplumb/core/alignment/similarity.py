"""The motion, with scale where it is asked for, that lays points best upon others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from ..errors import AlignmentError
from ..frames import Array, Motion


@dataclass(frozen=True, eq=False)
class Similarity:
    """x -> scale * rotation @ x + translation (mm); never a mirror image."""

    rotation: Array
    translation: Array
    scale: float

    @property
    def motion(self) -> Motion:
        """Without the scale: turns, then shifts."""
        return Motion(self.rotation, self.translation)

    def points(self, points: ArrayLike) -> Array:
        """Points (n, d) moved."""
        return self.scale * np.asarray(points, float) @ self.rotation.T + self.translation


def similarity(
    points: ArrayLike, targets: ArrayLike, weights: ArrayLike | None = None, scale: float | None = 1.0
) -> Similarity:
    """The least-squares similarity from points to targets.

    Parameters
    ----------
    points, targets : (n, d) arrays, d = 2 or 3
    weights : (n,) array, one over the variance of each pair
    scale : held at this; None where it is free

    Raises
    ------
    AlignmentError
        Points that do not determine a rotation: fewer than d, or all on one place or one line.

    Notes
    -----
    Source: S. Umeyama, "Least-squares estimation of transformation parameters between two point
    patterns", IEEE PAMI 13 (1991); its sign matrix keeps reflections out.
    """
    p, q = np.asarray(points, float), np.asarray(targets, float)
    w = np.ones(len(p)) if weights is None else np.asarray(weights, float)
    w = w / w.sum()
    p_middle, q_middle = w @ p, w @ q
    rel_p, rel_q = p - p_middle, q - q_middle
    u, values, vt = np.linalg.svd((rel_q * w[:, None]).T @ rel_p)
    if len(p) < p.shape[1] or values[-2] <= 1e-12 * max(values[0], 1e-300) or not values[0] > 0:
        raise AlignmentError(
            "The points lie on one line or one place, so a turn about it stays loose.",
            "The points are kept.",
            "Take a point well off that line.",
        )
    sign = np.ones(p.shape[1])
    sign[-1] = np.sign(np.linalg.det(u) * np.linalg.det(vt))
    rotation = (u * sign) @ vt
    factor = float(values @ sign / (w @ np.einsum("ij,ij->i", rel_p, rel_p))) if scale is None else scale
    return Similarity(rotation, q_middle - factor * rotation @ p_middle, factor)
