"""What a network is made of: sightings of points, points and lengths that are known."""

from __future__ import annotations

from dataclasses import dataclass

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


@dataclass(frozen=True)
class InstrumentClass:
    """What a maker states of a polar instrument, as standard uncertainties.

    ``range_mm`` + ``range_per_m_mm`` · r for the range; ``angle_rad`` for each angle.
    """

    range_mm: float
    range_per_m_mm: float
    angle_rad: float


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
    along, around, up = np.array([ce * ca, ce * sa, se]), np.array([-sa, ca, 0.0]), np.array([-se * ca, -se * sa, ce])
    u_range = kind.range_mm + kind.range_per_m_mm * range_mm / 1000
    axes = np.column_stack([along, around, up])
    u = np.array([u_range, range_mm * max(ce, 1e-6) * kind.angle_rad, range_mm * kind.angle_rad])
    return Observation(station, point, range_mm * along, (axes * u**2) @ axes.T)
