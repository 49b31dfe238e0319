"""What measured features make together."""

from .bolt_circle import BoltCircle, bolt_circle
from .distance import PlaneDistance, plane_distance
from .features import Feature, propagate
from .possible import Possible, possible

__all__ = ["BoltCircle", "Feature", "PlaneDistance", "Possible", "bolt_circle", "plane_distance", "possible", "propagate"]
