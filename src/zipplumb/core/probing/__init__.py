"""From tip centers to surfaces: side, tip radius, single points, ways of taking."""

from .compensation import Compensated, compensate, contacts_from_centers, surface_from_centers
from .side import Side, side_of_air
from .single import EdgePoint, SurfacePoint, edge_point, surface_point
from .taking import ByDistance, ByPress, ByTime, Taking, Way, WhenStill, way_of_taking

__all__ = [
    "ByDistance", "ByPress", "ByTime", "Compensated", "EdgePoint", "Side", "SurfacePoint", "Taking", "Way", "WhenStill",
    "compensate", "contacts_from_centers", "edge_point", "side_of_air", "surface_from_centers", "surface_point",
    "way_of_taking",
]  # fmt: skip
