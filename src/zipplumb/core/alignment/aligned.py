"""The result common to all alignments: pose, scale, uncertainty, hold ledger, residuals."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from ..frames import Array, Motion, unit
from ..uncertainty import Uncertainty
from .ledger import HoldLedger


@dataclass(frozen=True)
class Squareness:
    """How far two planes are from the angle that the nominal has between them.

    ``error_rad`` is actual minus nominal, of the angle between the outward normals;
    ``over_mm`` is what it makes over the reach of the hits of the plane that gives way, in the
    direction in which it leans; 0 where the hits are not given.
    """

    first: str
    second: str
    error_rad: float
    over_mm: float
    went_to: str


@dataclass(frozen=True, eq=False)
class Place:
    """Another place that fits as well: how it lies from the one that was taken, in words, and part_from_world there."""

    words: str
    part_from_world: Motion


@dataclass(frozen=True, eq=False, kw_only=True)
class Alignment:
    """A solved coordinate system.

    Attributes
    ----------
    part_from_world : Motion
    uncertainty : Uncertainty
        Of a small slide (mm) and turn (rad) of the part at its origin, along and about its axes,
        and of the scale: six numbers or, with the scale free, seven.
    ledger : what holds what, and one sentence of what it is worth
    scale : by which world lengths are taken: part = scale * rotation @ world + translation
    residuals : by row, the deviations (mm) along the directions in which it holds
    squareness : how far real planes are from the nominal's angles
    doubt : a sentence where the place may be wrong, else ""; then nothing that rests on it is proven
    others : places that fit equally well
    rests_at : (n, 3) places of the part on which it was laid, where many were
    """

    part_from_world: Motion
    uncertainty: Uncertainty
    ledger: HoldLedger
    scale: float = 1.0
    residuals: Mapping[str, Array] = field(default_factory=dict)
    squareness: tuple[Squareness, ...] = ()
    doubt: str = ""
    others: tuple[Place, ...] = ()
    rests_at: Array = field(default_factory=lambda: np.empty((0, 3)))

    @property
    def covariance(self) -> Array:
        """(6, 6) or (7, 7) from all sources."""
        return self.uncertainty.covariance

    def points(self, world: ArrayLike) -> Array:
        """World points (..., 3) in the part."""
        return self.part_from_world.points(self.scale * np.asarray(world, float))

    def shape(self, world: Any) -> Any:
        """A shape given in the world, in part coordinates."""
        return (world if self.scale == 1.0 else world.scaled(self.scale)).moved(self.part_from_world)

    def point_covariance(self, point_part: Array) -> Array:
        """(3, 3) mm² of where the alignment puts a point of the part."""
        x, y, z = np.asarray(point_part, float)
        turn = np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])
        scale = np.array([[x], [y], [z]]) if self.uncertainty.size == 7 else np.empty((3, 0))
        lever = np.hstack([np.eye(3), turn, scale])
        return lever @ self.covariance @ lever.T

    def u_along(self, point_part: Array, direction_part: Array) -> float:
        """Standard uncertainty (mm) of where a point of the part lies, along a direction."""
        direction = unit(direction_part)
        return float(np.sqrt(np.maximum(direction @ self.point_covariance(point_part) @ direction, 0.0)))

    def u_at(self, points_part: ArrayLike) -> Array:
        """(n,) standard uncertainty (mm) of where points (n, 3) of the part lie, in the direction where it is largest."""
        x, y, z = np.reshape(np.asarray(points_part, float), (-1, 3)).T
        levers = np.zeros((len(x), 3, self.uncertainty.size))
        levers[:, [0, 1, 2], [0, 1, 2]] = 1.0
        levers[:, 0, 4], levers[:, 0, 5] = z, -y
        levers[:, 1, 3], levers[:, 1, 5] = -z, x
        levers[:, 2, 3], levers[:, 2, 4] = y, -x
        if self.uncertainty.size == 7:
            levers[:, :, 6] = np.stack([x, y, z], axis=1)
        spread = levers @ self.covariance @ levers.transpose(0, 2, 1)
        return np.asarray(np.sqrt(np.maximum(np.linalg.eigvalsh(spread)[:, -1], 0.0)))

    def doubted(self, words: str) -> Self:
        """A copy with one more reason why the pose may be wrong; itself if ``words`` is empty."""
        if not words:
            return self
        doubt = f"{words} {self.doubt}".strip()
        return replace(self, doubt=doubt, ledger=replace(self.ledger, verdict=doubt))

    def ellipsoid(self, point_part: Array) -> tuple[Array, Array]:
        """Half axes (3,) of the standard ellipsoid of where a point lies, mm, falling, and their directions as rows."""
        values, vectors = np.linalg.eigh(self.point_covariance(point_part))
        return np.sqrt(np.maximum(values[::-1], 0.0)), vectors[:, ::-1].T
