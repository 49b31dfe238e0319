"""Shapes from points."""

from .api import CRITERIA, KINDS, fit
from .placed import Placed
from .recognise import Candidate, Recognition, recognise
from .result import SURE, FitResult, SpoilingHit

__all__ = ["CRITERIA", "KINDS", "SURE", "Candidate", "FitResult", "Placed", "Recognition", "SpoilingHit", "fit", "recognise"]
