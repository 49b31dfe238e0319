"""From tip centers to surfaces: side, tip radius, single points, ways of taking."""

from .compensation import Compensated, compensate, contacts_from_centers, surface_from_centers
from .side import Side, side_of_air
from .single import EdgePoint, SurfacePoint, edge_point, surface_point
from .taking import ByDistance, ByTime, Taking, WhenStill

__all__ = [
    "ByDistance", "ByTime", "Compensated", "EdgePoint", "Side", "SurfacePoint", "Taking", "WhenStill", "compensate",
    "contacts_from_centers", "edge_point", "side_of_air", "surface_from_centers", "surface_point",
]  # fmt: skip
