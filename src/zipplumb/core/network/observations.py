"""Observations of a network: sightings of points, known points and known lengths."""

from __future__ import annotations

from dataclasses import astuple, dataclass
from typing import NamedTuple

import numpy as np

from ..errors import AlignmentError
from ..frames import Array

KEPT = "The readings are kept."


@dataclass(frozen=True, eq=False)
class Observation:
    """A point seen from a station: ``local`` (3,) mm in the instrument's axes, with its covariance (3, 3) mm²."""

    station: str
    point: str
    local: Array
    covariance: Array


class NotTied(AlignmentError):
    """Stations that too few points tie to the others: by name, why."""

    def __init__(self, stations: dict[str, str], others: str):
        self.stations = stations
        first, why = next(iter(stations.items()))
        words = f"Station {first} is not tied to {others}: {why}."
        super().__init__(words, KEPT, "See more of the same points, well apart, from it.")


@dataclass(frozen=True, eq=False)
class KnownPoint:
    """A point whose place in the world is known, with standard uncertainty ``u_mm``."""

    point: str
    world: Array
    u_mm: float


@dataclass(frozen=True)
class KnownLength:
    """The distance of two points is known: a scale bar."""

    first: str
    second: str
    length_mm: float
    u_mm: float


class LevelSighting(NamedTuple):
    """Which way is up (3,) in a station's own axes, with its standard uncertainty."""

    up: Array
    u_rad: float


@dataclass(frozen=True)
class InstrumentClass:
    """A polar instrument's specification by its maker, as standard uncertainties.

    ``range_mm`` + ``range_per_m_mm`` · r for the range; ``angle_rad`` for each angle.
    """

    range_mm: float
    range_per_m_mm: float
    angle_rad: float

    def u_at(self, local: Array) -> float:
        """Standard uncertainty (mm) of the worst of some places (n, 3): along or across the beam, whichever is more."""
        range_mm = float(np.linalg.norm(local, axis=1).max(initial=0.0))
        return max(self.range_mm + self.range_per_m_mm * range_mm / 1000, self.angle_rad * range_mm)

    def u_across(self, local: Array, outward: Array) -> float:
        """Standard uncertainty (mm) across a surface of which a beam sees a place (3,); ``outward`` (3,) in the same axes.

        The spot of a beam that comes slanting is drawn out on the surface, which makes its range less certain (practice:
        by one over the cosine), and only that cosine of it leads across: these two cancel. What the angles tell leads across
        by the sine.
        """
        far = float(np.linalg.norm(local))
        square = abs(float(local @ outward)) / max(far, 1e-9)
        along = self.range_mm + self.range_per_m_mm * far / 1000
        return float(np.hypot(along, self.angle_rad * far * np.sqrt(max(1 - square**2, 0.0))))

    def or_worse(self, other: InstrumentClass | None) -> InstrumentClass:
        """The larger of each."""
        if other is None:
            return self
        mine, theirs = astuple(self), astuple(other)
        return InstrumentClass(*(max(a, b) for a, b in zip(mine, theirs, strict=True)))


def polar(
    station: str, point: str, range_mm: float, azimuth_rad: float, elevation_rad: float, kind: InstrumentClass
) -> Observation:
    """A range and two angles as a place, with the covariance that the instrument's uncertainties make of it.

    ``azimuth_rad`` from X toward Y, ``elevation_rad`` up from the XY plane.
    Raises AlignmentError for a range that is none.
    """
    if not (np.isfinite([range_mm, azimuth_rad, elevation_rad]).all() and range_mm > 0):
        raise AlignmentError(f"A reading of {point} from {station} is no place.", KEPT, "Set it aside, and read it again.")
    ca, sa, ce, se = np.cos(azimuth_rad), np.sin(azimuth_rad), np.cos(elevation_rad), np.sin(elevation_rad)
    local = range_mm * np.array([ce * ca, ce * sa, se])
    return Observation(station, point, local, covariance_of(local, kind))


def covariance_of(local: Array, kind: InstrumentClass) -> Array:
    """Covariance (3, 3) mm² of a place (3,) in a polar instrument's axes, off its origin."""
    range_mm, level = float(np.linalg.norm(local)), max(float(np.hypot(local[0], local[1])), 1e-9)
    ca, sa, ce, se = local[0] / level, local[1] / level, level / range_mm, local[2] / range_mm
    along, around, up = np.array([ce * ca, ce * sa, se]), np.array([-sa, ca, 0.0]), np.array([-se * ca, -se * sa, ce])
    u_range = kind.range_mm + kind.range_per_m_mm * range_mm / 1000
    axes = np.column_stack([along, around, up])
    u = np.array([u_range, range_mm * max(ce, 1e-6) * kind.angle_rad, range_mm * kind.angle_rad])
    return np.asarray((axes * u**2) @ axes.T)
