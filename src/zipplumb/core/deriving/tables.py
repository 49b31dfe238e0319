"""Many dimensions at once: hole tables and chains."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..errors import DeriveError
from ..features import Feature, center_point, point_of, radius_of
from ..frames import Array, Motion
from ..uncertainty import propagate
from .derivation import Given
from .possible import UNKNOWN_RAD, Possible, made
from .registry import derivations_for


@dataclass(frozen=True, eq=False)
class Hole:
    """A row of a hole table; standard uncertainties beside the values.

    The angle of a hole at the origin is not known: its uncertainty is infinite.
    ``place`` (3,) and ``polar`` (distance from the origin in the XY plane in mm, angle from X in
    rad) are told in the table's system; ``diameter_mm`` is NaN where a feature has none.
    """

    name: str
    place: Array
    u_place: Array
    polar: tuple[float, float]
    u_polar: tuple[float, float]
    diameter_mm: float
    u_diameter_mm: float


def hole_table(holes: Sequence[Feature], part_from_world: Motion | None = None) -> tuple[Hole, ...]:
    """Where every hole is, and how wide. Raises DeriveError for a feature without a center."""
    motion = part_from_world or Motion.identity()
    return tuple(_hole(h.moved(motion)) for h in holes)


def _hole(hole: Feature) -> Hole:
    if point_of(hole.shape) is None:
        raise DeriveError(f"{hole.name} has no center.", "The features are kept.", "Choose holes, slots, balls or points.")

    def numbers(shape) -> Array:
        x, y, z = point_of(shape)
        return np.array([x, y, z, np.hypot(x, y), 2 * (radius_of(shape) or np.nan)])

    def polar_angle(shape) -> float:
        x, y, _ = center_point(shape)
        return float(np.arctan2(y, x))

    values, uncertainty = propagate(numbers, [hole])
    (angle,), of_angle = propagate(polar_angle, [hole], wraps=True)
    u, u_angle = np.sqrt(np.diag(uncertainty.covariance)), of_angle.u()
    return Hole(
        hole.name, values[:3], u[:3], (float(values[3]), float(angle)),
        (float(u[3]), u_angle if 2 * u_angle < UNKNOWN_RAD else np.inf), float(values[4]), float(u[4]),
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Chain:
    """``steps``: from each feature to the next; ``whole``: from the first to the last; ``names``: of the features."""

    names: tuple[str, ...]
    steps: tuple[Possible, ...]
    whole: Possible


def chain(features: Sequence[Feature], key: str | None = None) -> Chain:
    """The dimensions from one feature to the next, and over all.

    Parameters
    ----------
    key : of the dimension, as the registry calls it; by default the one mostly wanted of each pair

    Raises
    ------
    DeriveError
        Fewer than two features.
    """
    if len(features) < 2:
        raise DeriveError("A chain needs two features.", "The features are kept.", "Choose another feature.")
    pairs = pairwise(features)
    return Chain(
        tuple(f.name for f in features),
        tuple(_dimension(a, b, key) for a, b in pairs),
        _dimension(features[0], features[-1], key),
    )


def _dimension(first: Feature, second: Feature, key: str | None) -> Possible:
    measures = [d for d in derivations_for((first, second), Given()) if d.unit]
    chosen = next((d for d in measures if key in (None, d.key)), None)
    if chosen is None:
        what = f"no “{key}”" if key else "no dimension"
        return Possible(key or "", why_not=f"There is {what} between {first.name} and {second.name}. Choose another.")
    return made(chosen, (first, second))
