"""Where the part is."""

from .datum_planes import Alignment, Squareness, align_datum_planes
from .similarity import Similarity, similarity

__all__ = ["Alignment", "Similarity", "Squareness", "align_datum_planes", "similarity"]
