"""Propagation of uncertainty from its sources through a function, and coverage of the result.

What may differ from the truth is kept apart by **source**: the hits of a row, a tip's radius, a
calibration's offset, a station. Results that share a source are correlated as they are in life, and
every uncertainty can be split by source again: a budget.

Sources: JCGM 100 (GUM, linear propagation; F.1.2 for what shares a source), JCGM 101 (Monte Carlo),
JCGM 102 (several results).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from .frames import Array, Indices

STEP = 1e-5  # mm or rad, of the central differences
SHARE = 0.95
TWO_SIGMA = float(special.erf(np.sqrt(2)))  # 95.45 %: what k = 2 covers


class Source(NamedTuple):
    """Where an uncertainty comes from: ``what`` ("hits", "tip", "offset", "station", …) and whose."""

    what: str
    whose: int | str = 0


@dataclass(frozen=True, eq=False)
class Uncertainty:
    """How ``size`` numbers may differ from the truth, by source.

    Attributes
    ----------
    by_source : (size, m): the change of the numbers with one standard uncertainty of each of the
        source's m independent components; a source has the same components wherever it has as many
    spare : by source, the degrees of freedom from which its size was estimated; infinite where left out
    """

    size: int
    by_source: Mapping[Source, Array] = field(default_factory=dict)
    spare: Mapping[Source, float] = field(default_factory=dict)

    @classmethod
    def of_covariance(cls, source: Source, covariance: Array, spare: float = np.inf) -> Uncertainty:
        """From a covariance (size, size) that all comes from one source, estimated from ``spare`` degrees of freedom."""
        covariance = np.asarray(covariance, float)
        values, vectors = np.linalg.eigh(covariance)
        kept = values > 1e-14 * max(float(values[-1]), 0.0) if len(values) else values > 0
        columns = vectors[:, kept] * np.sqrt(values[kept])
        return cls(len(covariance), {source: columns} if columns.shape[1] else {}, {} if np.isinf(spare) else {source: spare})

    @cached_property
    def covariance(self) -> Array:
        """(size, size); zeros for what is exact."""
        total = np.zeros((self.size, self.size))
        for term in self.by_source.values():
            total += term @ term.T
        return total

    def through(self, jacobian: Array) -> Uncertainty:
        """The uncertainty of numbers that follow from these by a jacobian (k, size)."""
        return Uncertainty(len(jacobian), {s: jacobian @ t for s, t in self.by_source.items()}, self.spare)

    def __add__(self, other: Uncertainty) -> Uncertainty:
        terms = dict(self.by_source)
        for source, term in other.by_source.items():
            mine = terms.get(source)
            if mine is None:
                terms[source] = term
            elif mine.shape == term.shape:
                terms[source] = mine + term
            else:  # its hits laid in another way: other components of theirs
                terms[source] = np.hstack([mine, term])
        return Uncertainty(self.size, terms, _fewer(self.spare, other.spare))

    def beside(self, other: Uncertainty) -> Uncertainty:
        """With another, whose components are independent of these though they may come from the same source."""
        terms = dict(self.by_source)
        for source, term in other.by_source.items():
            terms[source] = np.hstack([terms[source], term]) if source in terms else term
        return Uncertainty(self.size, terms, _fewer(self.spare, other.spare))

    def at(self, k: int) -> Uncertainty:
        """The uncertainty of the k-th number alone."""
        return self.part(slice(k, k + 1))

    def part(self, numbers: slice) -> Uncertainty:
        """The uncertainty of some of the numbers."""
        size = len(range(*numbers.indices(self.size)))
        return Uncertainty(size, {s: t[numbers] for s, t in self.by_source.items()}, self.spare)

    def without(self, source: Source) -> Uncertainty:
        """The uncertainty from all sources but one."""
        return Uncertainty(self.size, {s: t for s, t in self.by_source.items() if s != source}, self.spare)

    def u(self, k: int = 0) -> float:
        """Standard uncertainty of the k-th number."""
        return float(np.sqrt(sum(float(t[k] @ t[k]) for t in self.by_source.values())))

    def freedom(self, k: int = 0) -> float:
        """Effective degrees of freedom of the k-th number's uncertainty (Welch and Satterthwaite; JCGM 100, G.4)."""
        known = sum(self.share(source, k) ** 4 / spare for source, spare in self.spare.items())
        return self.u(k) ** 4 / known if known > 0 else float("inf")

    def U(self, k: int = 0) -> float:
        """Expanded uncertainty of the k-th number: k = 2, and more where u comes from few hits."""
        return coverage_factor(max(self.freedom(k), 1.0), TWO_SIGMA) * self.u(k)

    def share(self, source: Source, k: int = 0) -> float:
        """Standard uncertainty of the k-th number from one source alone."""
        term = self.by_source.get(source)
        return 0.0 if term is None else float(np.sqrt(term[k] @ term[k]))

    def budget(self, k: int = 0) -> tuple[tuple[Source, float], ...]:
        """Every source with what it alone makes uncertain of the k-th number, largest first."""
        found = [(s, self.share(s, k)) for s in self.by_source]
        return tuple(sorted((f for f in found if f[1] > 0), key=lambda f: -f[1]))


class Later(Uncertainty):
    """An uncertainty that is worked out when it is first asked for: most features are seen long before it is."""

    def __init__(self, size: int, worked_out: Callable[[], Uncertainty]):
        self.__dict__.update(size=size, _worked_out=worked_out)

    @cached_property
    def _whole(self) -> Uncertainty:
        return self.__dict__["_worked_out"]()

    @property
    def by_source(self) -> Mapping[Source, Array]:  # type: ignore[override]
        return self._whole.by_source

    @property
    def spare(self) -> Mapping[Source, float]:  # type: ignore[override]
        return self._whole.spare


def _fewer(one: Mapping[Source, float], other: Mapping[Source, float]) -> Mapping[Source, float]:
    if not one or not other:
        return one or other
    return {source: min(one.get(source, np.inf), other.get(source, np.inf)) for source in one.keys() | other.keys()}


def exact(size: int) -> Uncertainty:
    """The uncertainty of ``size`` numbers that are known exactly."""
    return Uncertainty(size)


class Uncertain(Protocol):
    """Something with a shape, and the uncertainty of the parameters by which it may differ."""

    @property
    def shape(self) -> Any: ...
    @property
    def uncertainty(self) -> Uncertainty: ...
    @property
    def nudged(self) -> Sequence[tuple[Any, Any]]:
        """For each parameter, the shape a small step to the one and to the other side."""

    def drawn(self, random: np.random.Generator) -> Any:
        """A shape drawn at random from what this one may be."""


def propagate(function: Callable[..., Any], features: Sequence[Uncertain], wraps: bool = False) -> tuple[Array, Uncertainty]:
    """Values (k,) of ``function(*shapes)`` and their uncertainty, linearly; ``wraps``: they are angles.

    The derivatives are central differences over the parameters of each feature in its own axes,
    so that every construction has its uncertainty without a formula of its own.

    Examples
    --------
    The distance of two points, each known to 0.03 in every direction:

    >>> from zipplumb.core.features import Feature
    >>> from zipplumb.core.frames import Motion
    >>> from zipplumb.core.shapes import Point
    >>> ends = [
    ...     Feature.known(name, Point(at), Motion.identity(), np.diag([9e-4] * 3 + [0.0] * 3))
    ...     for name, at in (("A", [0, 0, 0]), ("B", [30, 40, 0]))
    ... ]
    >>> values, uncertainty = propagate(lambda a, b: np.linalg.norm(b.position - a.position), ends)
    >>> round(float(values[0]), 6), round(uncertainty.u(), 4)
    (50.0, 0.0424)
    """
    values, jacobians = jacobians_of(function, features, wraps)
    total = exact(len(values))
    for feature, jacobian in zip(features, jacobians, strict=True):
        if len(uncertain_parameters(feature)):
            total = total + feature.uncertainty.through(jacobian)
    return values, total


def jacobians_of(
    function: Callable[..., Any], features: Sequence[Uncertain], wraps: bool = False, every: bool = False
) -> tuple[Array, list[Array]]:
    """Values (k,) of ``function(*shapes)`` and, by feature, their derivatives (k, 6 + s), by central differences.

    ``wraps``: the values are angles; ``every``: also by parameters that have no uncertainty, whose columns else are zero.
    """
    shapes = [f.shape for f in features]
    values = _numbers(function(*shapes))
    found = []
    for i, feature in enumerate(features):
        jacobian = np.zeros((len(values), feature.uncertainty.size))
        asked = range(feature.uncertainty.size) if every else uncertain_parameters(feature).tolist()
        if asked:
            nudged, before, after = feature.nudged, shapes[:i], shapes[i + 1 :]
            up, down = (np.array([_numbers(function(*before, nudged[k][way], *after)) for k in asked]) for way in (0, 1))
            forward, backward = up - values, values - down
            steps = slope(turned(forward), turned(backward)) if wraps else slope(forward, backward)
            jacobian[:, asked] = steps.T / STEP
        found.append(jacobian)
    return values, found


def uncertain_parameters(feature: Uncertain) -> Indices:
    """Indices of the parameters of a feature that are not exact."""
    terms = list(feature.uncertainty.by_source.values())
    if not terms:
        return np.zeros(0, np.int64)
    return np.flatnonzero((terms[0] if len(terms) == 1 else np.hstack(terms)).any(axis=1))


def turned(angles: ArrayLike) -> Array:
    """Small turns from differences of angles, which may be the same after a whole turn."""
    return np.asarray((np.asarray(angles) + np.pi) % (2 * np.pi) - np.pi)


def slope(forward: Array, backward: Array) -> Array:
    """The mean of two differences; at a fold (the angle of parallels, say) it would vanish, so one of them."""
    both = forward + backward
    folded = np.abs(forward - backward) > np.abs(both)
    return np.where(folded, forward, both / 2)


def _numbers(value: Any) -> Array:
    found = np.asarray(value, float)
    return found if found.ndim else found.reshape(1)


def coverage_factor(spare: float = np.inf, share: float = SHARE) -> float:
    """k of the expanded uncertainty U = k u of one number.

    Student's t for an uncertainty from ``spare`` degrees of freedom (JCGM 100, G.3.2), the normal
    distribution for one that is known beforehand; NaN with nothing spare.
    """
    if spare < 1:
        return float("nan")
    tail = (1 + share) / 2
    return float(special.ndtri(tail) if np.isinf(spare) else special.stdtrit(spare, tail))


def squared_distance(deviation: Array, covariance: Array) -> tuple[float, int]:
    """d² of a deviation (k,) in units of its covariance (k, k) (Mahalanobis), and how many directions it is of.

    Directions without uncertainty are left out.
    """
    scale = np.sqrt(np.maximum(np.diag(covariance), 1e-300))
    values, vectors = np.linalg.eigh(covariance / np.outer(scale, scale))
    sure = values > 1e-9 * values.max()
    return float(np.sum((vectors[:, sure].T @ (deviation / scale)) ** 2 / values[sure])), int(sure.sum())
