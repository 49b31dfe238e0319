"""What a fit gives, and what follows from its residuals and Jacobian alone."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from scipy import stats

from ..frames import Array, Motion

SURE = 0.99  # from here on a hit is said to spoil the shape


@dataclass(frozen=True)
class SpoilingHit:
    """The hit that disagrees most with what the others say.

    Attributes
    ----------
    index : int
        Row of the points given to ``fit``.
    off_by_mm : float
        Its distance from the shape that the other hits make, signed like a residual.
    sure : float
        0 to 1: one minus the chance that the largest of so many honest hits is this far off
        (Bonferroni bound on the externally studentised residual).
    """

    index: int
    off_by_mm: float
    sure: float


@dataclass(frozen=True, eq=False)
class FitResult:
    """A fitted shape.

    Attributes
    ----------
    shape : the fitted shape, in the frame of the points
    residuals : (n,) array, mm, + on the normal's side or outside a round shape
    parameters : names of the free parameters, in the order of the covariance
        Small shifts ``x, y, z`` (mm) and turns ``rx, ry, rz`` (rad) of the shape in ``local``
        axes, then its sizes by their names.
    jacobian : (n, k) array, of the residuals by the parameters
    unit_covariance : (k, k) array
        For hits of 1 mm standard uncertainty: scale it by a variance known beforehand.
    local : Motion
        world_from_local of the axes of the parameters.
    warnings : plain sentences about data that cannot carry the result
    """

    kind: str
    criterion: str
    shape: Any
    residuals: Array
    parameters: tuple[str, ...]
    jacobian: Array
    unit_covariance: Array
    local: Motion
    warnings: tuple[str, ...] = ()
    per_point: int = 1

    @property
    def rms(self) -> float:
        """Root of the mean squared residual."""
        return float(np.sqrt(np.mean(self.residuals**2)))

    @property
    def form(self) -> float:
        """Largest minus smallest residual."""
        return float(np.ptp(self.residuals))

    @property
    def spare(self) -> int:
        """Degrees of freedom: what was read beyond the least number."""
        return self.per_point * len(self.residuals) - len(self.parameters)

    @property
    def sigma(self) -> float:
        """Standard deviation of one hit as its residuals tell it; NaN with no spare hit."""
        if self.spare < 1:
            return float("nan")
        return float(np.sqrt(self.residuals @ self.residuals / self.spare))

    @property
    def covariance(self) -> Array:
        """Of the parameters, from the residuals' own scatter; NaN where no hit is spare."""
        return self.unit_covariance * self.sigma**2

    def u(self, parameter: str, u_hit_mm: float | None = None) -> float:
        """Standard uncertainty of one parameter, from the scatter or from a hit's known one.

        A parameter that was held has none: 0.
        """
        if parameter not in self.parameters:
            return 0.0
        k = self.parameters.index(parameter)
        scale = self.sigma if u_hit_mm is None else u_hit_mm
        return float(np.sqrt(self.unit_covariance[k, k]) * scale)

    @cached_property
    def worst(self) -> SpoilingHit | None:
        """The hit that spoils the shape most, or None where none can be judged."""
        if self.per_point != 1 or self.criterion != "gaussian":
            return None
        return spoiling_hit(self.residuals, self.jacobian)


def spoiling_hit(residuals: Array, jacobian: Array) -> SpoilingHit | None:
    """The largest externally studentised residual.

    Source: Cook and Weisberg, "Residuals and Influence in Regression" (1982), section 2.2.
    Leverages come from the linearised fit; the deleted residual is e / (1 - h).
    """
    n, k = jacobian.shape
    spare = n - k
    if spare < 2 or not np.any(residuals):
        return None
    q, _ = np.linalg.qr(jacobian)
    room = np.clip(1 - np.einsum("ij,ij->i", q, q), 1e-12, None)
    total = residuals @ residuals
    rest = np.clip(total - residuals**2 / room, 1e-300, None) / (spare - 1)
    studentised = np.abs(residuals) / np.sqrt(rest * room)
    studentised[room < 1e-9] = 0.0  # a hit that no other controls cannot be judged
    index = int(np.argmax(studentised))
    chance = min(1.0, n * 2 * stats.t.sf(studentised[index], spare - 1))
    return SpoilingHit(index, float(residuals[index] / room[index]), float(1 - chance))


def unit_covariance(jacobian: Array) -> Array | None:
    """Inverse of the scaled normal matrix; None where the parameters are not determined."""
    normal = jacobian.T @ jacobian
    scale = 1 / np.sqrt(np.maximum(np.diag(normal), 1e-300))
    scaled = normal * scale[:, None] * scale
    if np.linalg.eigvalsh(scaled)[0] < 1e-13:
        return None
    return np.linalg.inv(scaled) * scale[:, None] * scale
