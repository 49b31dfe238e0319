"""Shapes from points."""

from .api import KINDS, fit
from .result import FitResult, SpoilingHit

__all__ = ["KINDS", "FitResult", "SpoilingHit", "fit"]
