"""A calibrated probe: tip offset, radius and their uncertainties."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from ..fingerprints import fingerprint
from ..frames import Array, Motion


@dataclass(frozen=True, eq=False)
class Light:
    """Where a line scanner's plane of light stands, and the standard uncertainty of one point of it, met squarely."""

    axis_from_scanner: Motion
    u_point_mm: float


@dataclass(frozen=True, eq=False)
class ProbeCalibration:
    """One calibration of one probe.

    Attributes
    ----------
    id : int
    offset_mm : (3,) array, tip center in the last axis of the arm
    diameter_mm : float
    u_radius_mm : float, standard uncertainty of the effective tip radius
    u_offset_mm : standard uncertainty of the offset, the same in all directions
    light : of a line scanner, where its plane of light stands
    doubt : why what was measured with it is in doubt, a sentence; "" where it is not
    """

    id: int
    offset_mm: Array
    diameter_mm: float
    u_radius_mm: float
    doubt: str = ""
    u_offset_mm: float = 0.0
    light: Light | None = None

    @cached_property
    def digest(self) -> str:
        """Fingerprint of its values."""
        sizes = (self.diameter_mm, self.u_radius_mm, self.u_offset_mm)
        light = () if self.light is None else (self.light.axis_from_scanner.as_list(), self.light.u_point_mm)
        return fingerprint(self.id, self.offset_mm.tobytes(), *sizes, self.doubt, *light)

    @property
    def radius_mm(self) -> float:
        return self.diameter_mm / 2
