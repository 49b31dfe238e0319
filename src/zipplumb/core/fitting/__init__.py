"""Fits: shapes from points."""

from .api import CRITERIA, FITS, LEAST, RECOMMENDED, fit
from .placed import Placed
from .recognise import Candidate, NearNominal, Nominal, Recogniser, Recognition, recognise, touched_nominals
from .result import SURE, FitResult, SpoilingHit
from .rivals import Meant

__all__ = [
    "CRITERIA", "FITS", "LEAST", "RECOMMENDED", "SURE", "Candidate", "FitResult", "Meant", "NearNominal", "Nominal", "Placed",
    "Recogniser", "Recognition", "SpoilingHit", "fit", "recognise", "touched_nominals",
]  # fmt: skip
