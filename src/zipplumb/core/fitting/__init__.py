"""Shapes from points."""

from .api import CRITERIA, KINDS, fit
from .recognise import Candidate, Recognition, recognise
from .result import SURE, FitResult, SpoilingHit

__all__ = ["CRITERIA", "KINDS", "SURE", "Candidate", "FitResult", "Recognition", "SpoilingHit", "fit", "recognise"]
