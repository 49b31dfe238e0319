"""What a fit gives, and what follows from its residuals and Jacobian alone."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy import stats

from ..frames import Array, Motion


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
    shape : Plane, Line, Circle, Sphere or Cylinder
    residuals : (n,) array, mm, + on the normal's side or outside a round shape
    rms : float, root of the mean squared residual
    form : float, largest minus smallest residual
    parameters : names of the parameters, in the order of ``covariance``
    covariance : (k, k) array
        Of the parameters in ``local`` axes, from the residuals' scatter; NaN where no hit is spare.
    unit_covariance : (k, k) array
        The same for hits of 1 mm standard uncertainty: scale it by a variance known beforehand.
    local : Motion
        world_from_local of the frame in which the parameters are small steps.
    spare : int, hits (degrees of freedom) beyond the least number
    worst : SpoilingHit or None where no hit is spare
    warnings : plain sentences about data that cannot carry the result
    """

    kind: str
    criterion: str
    shape: Any
    residuals: Array
    parameters: tuple[str, ...]
    unit_covariance: Array
    local: Motion
    worst: SpoilingHit | None = None
    warnings: tuple[str, ...] = field(default=())

    @property
    def rms(self) -> float:
        return float(np.sqrt(np.mean(self.residuals**2)))

    @property
    def form(self) -> float:
        return float(np.ptp(self.residuals))

    @property
    def spare(self) -> int:
        return len(self.residuals) - len(self.parameters)

    @property
    def sigma(self) -> float:
        """Standard deviation of one hit as its residuals tell it; NaN with no spare hit."""
        if self.spare < 1:
            return float("nan")
        return float(np.sqrt(self.residuals @ self.residuals / self.spare))

    @property
    def covariance(self) -> Array:
        return self.unit_covariance * self.sigma**2

    def u(self, parameter: str, u_hit_mm: float | None = None) -> float:
        """Standard uncertainty of one parameter, from the scatter or from a hit's known one."""
        k = self.parameters.index(parameter)
        scale = self.sigma if u_hit_mm is None else u_hit_mm
        return float(np.sqrt(self.unit_covariance[k, k]) * scale)


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
