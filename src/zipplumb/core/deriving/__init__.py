"""Constructions and dimensions from measured features."""

from .bolt_circle import BoltCircle, bolt_circle, division_of
from .derivation import Derivation, Given
from .distance import PlaneDistance, plane_distance
from .drawing import Drawing
from .possible import Possible, construct, derivation_of, made, made_feature, possible
from .registry import unit_of

__all__ = [
    "BoltCircle",
    "Derivation",
    "Drawing",
    "Given",
    "PlaneDistance",
    "Possible",
    "bolt_circle",
    "construct",
    "derivation_of",
    "division_of",
    "made",
    "made_feature",
    "plane_distance",
    "possible",
    "unit_of",
]  # fmt: skip
