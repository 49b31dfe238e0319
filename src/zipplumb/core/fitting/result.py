"""The result of a fit, and what follows from its residuals and derivatives."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from ..frames import Array, Indices, Motion
from .placed import Placed

NAMING = 2  # spare ones beside a hit itself, from which on one that is far off is surely named
SURE = 0.99  # from here on a hit is said to spoil the shape
BLOCK = 65_536  # points whose derivatives are in memory together

Linear = Callable[[Array], tuple[Array, Array, Array]]


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


@dataclass(frozen=True)
class UnnamedHit:
    """A hit that is off, of hits too few to say which.

    Attributes
    ----------
    off_by_mm : about how far it is off
    more : how many hits more tell which
    """

    off_by_mm: float
    more: int


@dataclass(frozen=True, eq=False)
class FitResult:
    """A fitted shape.

    Attributes
    ----------
    shape : the fitted shape, in the frame of the points
    residuals : (n,) array, mm, + on the normal's side or outside a round shape
        Of a point, and of a line in space, they are distances and never negative.
    parameters : names of the free parameters, in the order of the covariance
        Small shifts ``x, y, z`` (mm) and turns ``rx, ry, rz`` (rad) of the shape in ``local``
        axes, then its sizes by their names.
    unit_covariance : (k, k) array
        For hits of 1 mm standard uncertainty each.
    local : Motion
        world_from_local of the axes of the parameters.
    points : (n, 3) the hits
    linear : points -> residual components (m, d), their derivatives by the parameters (m, d, k)
        and by the points (m, d, 3)
    u_hits_mm : standard uncertainty of the hits where it was given: one, (n,), or (n, 3, 3) covariances
    lies_in : the fit of the plane that a 2D shape lies in, where that was fitted or measured
    gaussian : of another criterion, the Gaussian fit that it began from
    bearing : of another criterion, the hits (b,) that it rests on, and how the parameters answer (k, b) as they move out
    placed : the shape as descents see it, where there is such a one
    doubts : tells where the data cannot carry the result; see ``warnings``
    per_point : how many components a hit's residual has: 3 for a point, 2 for a line in space
    """

    kind: str
    criterion: str
    shape: Any
    residuals: Array
    parameters: tuple[str, ...]
    unit_covariance: Array
    local: Motion
    points: Array
    linear: Linear
    u_hits_mm: Any = None
    lies_in: FitResult | None = None
    gaussian: FitResult | None = None
    placed: Placed | None = None
    doubts: Callable[[FitResult], tuple[str, ...]] | None = None
    per_point: int = 1
    bearing: tuple[Indices, Array] | None = None

    @cached_property
    def warnings(self) -> tuple[str, ...]:
        """Plain sentences about data that cannot carry the result."""
        if self.gaussian is not None:
            return self.gaussian.warnings
        return self.doubts(self) if self.doubts else ()

    @cached_property
    def rms(self) -> float:
        """Root of the mean squared residual."""
        return float(np.sqrt(self.residuals @ self.residuals / len(self.residuals)))

    @cached_property
    def form(self) -> float:
        """Largest minus smallest residual; of a line in space the diameter of the zone round it.

        A shape to one side of its hits (inscribed, circumscribed, tangent) says nothing of their form: the Gaussian's then.
        """
        if self.gaussian is not None and self.criterion != "chebyshev" and self.per_point == 1:
            return self.gaussian.form
        if self.per_point > 1:
            return float(2 * self.residuals.max())
        return float(self.residuals.max() - self.residuals.min())

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

    @cached_property
    def covariance(self) -> Array:
        """Covariance of the parameters: from the hits' uncertainties where they were given, else from the scatter.

        NaN where neither is known (no hit is spare).
        """
        if self.bearing is not None and np.ndim(self.u_hits_mm if self.u_hits_mm is not None else 0.0):
            raise NotImplementedError("hits of one uncertainty each, for another criterion")
        if self.gaussian is not None and self.u_hits_mm is None:
            return self.unit_covariance * self.gaussian.sigma**2
        if self.u_hits_mm is None:
            return self.unit_covariance * self.sigma**2
        return self.covariance_for(self.u_hits_mm)

    def covariance_for(self, u_hits_mm: ArrayLike) -> Array:
        """Covariance (k, k) for hits of known uncertainty, through this (unweighted) fit.

        Parameters
        ----------
        u_hits_mm : one standard uncertainty, (n,) of them, or covariances (n, 3, 3)

        Notes
        -----
        Source: JCGM 100 (GUM), 5.2: linear propagation through the normal equations.
        """
        u = np.asarray(u_hits_mm, float)
        if u.ndim == 0:
            return self.unit_covariance * float(u) ** 2
        middle = np.zeros_like(self.unit_covariance)
        for part, _, jacobian, pulls in self._blocks():
            if u.ndim == 1:
                middle += np.einsum("nda,n,ndb->ab", jacobian, u[part] ** 2, jacobian)
            else:
                across = np.einsum("ndi,nij,nej->nde", pulls, u[part], pulls)
                middle += np.einsum("nda,nde,neb->ab", jacobian, across, jacobian)
        return self.unit_covariance @ middle @ self.unit_covariance

    def response(self, shifts: Array) -> Array:
        """How the parameters answer (k, m) to small shifts (n, 3, m) of the hits, mm."""
        if self.bearing is not None:
            borne, answers = self.bearing
            _, _, pulls = self.linear(self.points[borne])
            return answers @ np.einsum("ni,nim->nm", pulls[:, 0], shifts[borne])
        total = np.zeros((len(self.parameters), shifts.shape[2]))
        for part, _, jacobian, pulls in self._blocks():
            answers = np.einsum("ndi,nim->ndm", pulls, shifts[part])
            total += jacobian.reshape(-1, len(total)).T @ answers.reshape(-1, shifts.shape[2])
        return -self.unit_covariance @ total

    def u(self, parameter: str, u_hit_mm: float | None = None) -> float:
        """Standard uncertainty of one parameter, from the scatter or from a hit's known one.

        A parameter that was held has none: 0.
        """
        if parameter not in self.parameters:
            return 0.0
        k = self.parameters.index(parameter)
        if u_hit_mm is not None:
            return float(np.sqrt(self.unit_covariance[k, k]) * u_hit_mm)
        return float(np.sqrt(self.covariance[k, k]))

    @property
    def jacobian(self) -> Array:
        """Derivatives (n d, k) of all residual components: for few points only."""
        rows = self.linear(self.points)[1]
        return rows.reshape(-1, rows.shape[2])

    def _blocks(self) -> Iterator[tuple[slice, Array, Array, Array]]:
        for start in range(0, len(self.points), BLOCK):
            part = slice(start, start + BLOCK)
            yield part, *self.linear(self.points[part])

    def unnamed(self, u_mm: float) -> UnnamedHit | None:
        """A hit that must be off though so few cannot tell which; None where they err as is known of them, or can tell.

        ``u_mm``: standard uncertainty of one hit. The sum of squares is tested against it (chi-square), as the global test of
        W. Baarda, "A testing procedure for use in geodetic networks" (1968), before the single observations are. Of one hit
        off by d it expects d² times the share of it that the others do not follow, on average their spare ones.
        """
        if self.gaussian is not None:
            return self.gaussian.unnamed(u_mm)
        total, each = float(self.residuals @ self.residuals), self.per_point
        more = math.ceil((NAMING + each - self.spare) / each)
        if self.spare < 1 or more < 1 or special.chdtrc(self.spare, total / u_mm**2) > 1 - SURE:
            return None
        return UnnamedHit(math.sqrt(total * len(self.residuals) * each / self.spare), more)

    @cached_property
    def worst(self) -> SpoilingHit | None:
        """The hit that spoils the shape most, or None where none can be judged.

        The largest externally studentised residual, or of a hit with several components the
        largest outlier statistic. Source: Cook and Weisberg, "Residuals and Influence in
        Regression" (1982), section 2.2 and appendix A.2 (blocks). Leverages come from the
        linearised fit.
        """
        if self.gaussian is not None:
            return self.gaussian.worst
        d, left = self.per_point, self.spare - self.per_point
        total = float(self.residuals @ self.residuals)
        if left < 1 or total == 0:
            return None
        index, most, off = -1, 0.0, 0.0
        for part, parts, jacobian, _ in self._blocks():
            hat = np.einsum("nda,ab,neb->nde", jacobian, self.unit_covariance, jacobian)
            room = np.eye(d) - hat
            judged = np.linalg.eigvalsh(room)[:, 0] > 1e-9  # a hit that no other controls cannot be judged
            room[~judged] = np.eye(d)
            deleted = np.linalg.solve(room, parts[:, :, None])[:, :, 0]
            explained = np.einsum("nd,nd->n", parts, deleted)
            value = explained / d / np.maximum((total - explained) / left, 1e-300)
            value[~judged] = 0.0
            k = int(np.argmax(value))
            if value[k] > most:
                index, most = part.start + k, float(value[k])
                off = float(deleted[k, 0]) if d == 1 else float(np.linalg.norm(deleted[k]))
        if index < 0:
            return None
        chance = float(special.fdtrc(d, left, most))
        return SpoilingHit(index, off, float(1 - min(1.0, len(self.residuals) * chance)))
