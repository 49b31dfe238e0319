"""Shapes from points."""

from .api import CRITERIA, KINDS, fit
from .result import FitResult, SpoilingHit

__all__ = ["CRITERIA", "KINDS", "FitResult", "SpoilingHit", "fit"]
