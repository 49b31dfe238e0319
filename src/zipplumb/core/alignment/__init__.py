"""Where the part is."""

from .datum_planes import Alignment, Squareness, align_datum_planes

__all__ = ["Alignment", "Squareness", "align_datum_planes"]
