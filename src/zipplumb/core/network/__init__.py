"""Stations and the points that they see together: one adjustment for all."""

from .adjustment import Disagreement, Network, adjust
from .observations import InstrumentClass, KnownLength, KnownPoint, LevelSighting, NotTied, Observation, covariance_of, polar

__all__ = [
    "Disagreement", "InstrumentClass", "KnownLength", "KnownPoint", "LevelSighting", "Network", "NotTied", "Observation",
    "adjust", "covariance_of", "polar",
]  # fmt: skip
