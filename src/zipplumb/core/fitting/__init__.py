"""Fits: shapes from points."""

from .api import CRITERIA, FITS, LEAST, RECOMMENDED, fit
from .placed import Placed
from .recognise import Candidate, NearNominal, Nominal, Recogniser, Recognition, recognise, touched_nominals
from .result import SURE, FitResult, SpoilingHit

__all__ = [
    "CRITERIA", "FITS", "LEAST", "RECOMMENDED", "SURE", "Candidate", "FitResult", "NearNominal", "Nominal", "Placed",
    "Recogniser", "Recognition", "SpoilingHit", "fit", "recognise", "touched_nominals",
]  # fmt: skip
