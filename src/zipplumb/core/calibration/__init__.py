"""Probe calibration: pivot, reference sphere, line scanner."""

from .least import LIMIT_MM
from .pivot import Pivot, pivot
from .plausible import Question, both_units, question_about
from .probe import Light, ProbeCalibration
from .reach import BANDS_DEG, WAYS, Reach
from .scanner import ScannerCalibration, calibrate_scanner
from .sphere import KnownProbe, SphereCalibration, calibrate_on_sphere

__all__ = [
    "BANDS_DEG",
    "LIMIT_MM",
    "WAYS",
    "KnownProbe",
    "Light",
    "Pivot",
    "ProbeCalibration",
    "Question",
    "Reach",
    "ScannerCalibration",
    "SphereCalibration",
    "both_units",
    "calibrate_on_sphere",
    "calibrate_scanner",
    "pivot",
    "question_about",
]  # fmt: skip
