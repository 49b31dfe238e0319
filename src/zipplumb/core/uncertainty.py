"""How uncertainty goes through a function, and what a covariance promises.

Sources: JCGM 100 (GUM, linear propagation), JCGM 101 (Monte Carlo), JCGM 102 (several results).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol

import numpy as np
from scipy import special

from .frames import Array

STEP = 1e-5  # mm or rad, of the central differences
SHARE = 0.95


class Uncertain(Protocol):
    """Something with a shape, and a covariance of the parameters by which it may differ."""

    @property
    def shape(self) -> Any: ...
    @property
    def covariance(self) -> Array: ...
    def changed(self, parameter: int, by: float) -> Any:
        """The shape with one parameter changed a little."""

    def drawn(self, random: np.random.Generator) -> Any:
        """A shape drawn at random from what this one may be."""


def propagate(function: Callable[..., Any], features: Sequence[Uncertain]) -> tuple[Array, Array]:
    """Values (k,) of ``function(*shapes)`` and their covariance (k, k), linearly.

    The derivatives are central differences over the parameters of each feature in its own axes,
    so that every construction has its uncertainty without a formula of its own. Features are
    taken as independent of one another.
    """
    shapes = [f.shape for f in features]
    values = _numbers(function(*shapes))
    covariance = np.zeros((len(values), len(values)))
    for i, feature in enumerate(features):
        used = np.flatnonzero(np.diag(feature.covariance) != 0)
        columns = []
        for parameter in used.tolist():
            up, down = (
                _numbers(function(*shapes[:i], feature.changed(parameter, by), *shapes[i + 1 :])) for by in (STEP, -STEP)
            )
            columns.append(_slope(up - values, values - down) / STEP)
        if columns:
            jacobian = np.column_stack(columns)
            covariance += jacobian @ feature.covariance[np.ix_(used, used)] @ jacobian.T
    return values, covariance


def _slope(forward: Array, backward: Array) -> Array:
    """The mean of two differences; at a fold (the angle of parallels, say) it would vanish, so one of them."""
    folded = np.abs(forward - backward) > np.abs(forward + backward)
    return np.where(folded, forward, (forward + backward) / 2)


def monte_carlo(
    function: Callable[..., Any], features: Sequence[Uncertain], runs: int, random: np.random.Generator
) -> tuple[Array, Array]:
    """Mean (k,) and covariance (k, k) of ``function`` over features drawn at random (JCGM 101)."""
    drawn = np.array([_numbers(function(*(f.drawn(random) for f in features))) for _ in range(runs)])
    return drawn.mean(axis=0), np.atleast_2d(np.cov(drawn, rowvar=False))


def _numbers(value: Any) -> Array:
    return np.atleast_1d(np.asarray(value, float))


def coverage_factor(spare: float = np.inf, share: float = SHARE) -> float:
    """k of the expanded uncertainty U = k u of one number.

    Student's t for an uncertainty from ``spare`` degrees of freedom (JCGM 100, G.3.2), the normal
    distribution for one that is known beforehand; NaN with nothing spare.
    """
    if spare < 1:
        return float("nan")
    tail = (1 + share) / 2
    return float(special.ndtri(tail) if np.isinf(spare) else special.stdtrit(spare, tail))


def inside_region(deviation: Array, covariance: Array, spare: float = np.inf, share: float = SHARE) -> bool:
    """Whether a deviation (k,) lies in the ellipsoid that is to hold the truth with that share.

    Source: JCGM 102, 6.5; with ``spare`` degrees of freedom the F distribution takes the place of
    the chi-square. Directions without uncertainty are left out.
    """
    scale = np.sqrt(np.maximum(np.diag(covariance), 1e-300))
    values, vectors = np.linalg.eigh(covariance / np.outer(scale, scale))
    sure = values > 1e-9 * values.max()
    square = float(np.sum((vectors[:, sure].T @ (deviation / scale)) ** 2 / values[sure]))
    k = int(sure.sum())
    if np.isinf(spare):
        return bool(square <= special.chdtri(k, 1 - share))
    return bool(square <= k * special.fdtri(k, spare, share))
