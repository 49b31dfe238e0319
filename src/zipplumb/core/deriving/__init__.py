"""What measured features make together."""

from .distance import PlaneDistance, plane_distance

__all__ = ["PlaneDistance", "plane_distance"]
