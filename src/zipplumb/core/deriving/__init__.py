"""What measured features make together."""

from .bolt_circle import BoltCircle, bolt_circle
from .distance import PlaneDistance, plane_distance
from .drawing import Drawing
from .features import Feature
from .possible import Possible, construct, possible
from .recipes import Given
from .tables import Chain, Hole, chain, hole_table

__all__ = [
    "BoltCircle", "Chain", "Drawing", "Feature", "Given", "Hole", "PlaneDistance", "Possible", "bolt_circle", "chain",
    "construct", "hole_table", "plane_distance", "possible",
]  # fmt: skip
