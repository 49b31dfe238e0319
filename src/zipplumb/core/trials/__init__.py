"""Calibrations and checks in progress: from the readings so far to the next instruction and the result."""

from .calibrating import SEATS, pivot_outcome, scanner_outcome, sphere_outcome
from .checking import drift_outcome, faces_outcome, length_outcome, single_point_outcome, sphere_check_outcome
from .outcome import Figure, Outcome
from .reflectors import KnownNest, Reflector, reflector_outcome

__all__ = [
    "SEATS",
    "Figure",
    "KnownNest",
    "Outcome",
    "Reflector",
    "drift_outcome",
    "faces_outcome",
    "length_outcome",
    "pivot_outcome",
    "reflector_outcome",
    "scanner_outcome",
    "single_point_outcome",
    "sphere_check_outcome",
    "sphere_outcome",
]  # fmt: skip
