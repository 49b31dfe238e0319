"""Stations and the points that they see together: one adjustment for all."""

from .adjustment import Network, adjust
from .observations import InstrumentClass, KnownLength, KnownPoint, Observation, polar

__all__ = ["InstrumentClass", "KnownLength", "KnownPoint", "Network", "Observation", "adjust", "polar"]
