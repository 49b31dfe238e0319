"""Alignments: the pose of the part in the world, with its uncertainty."""

from .aligned import Alignment, Squareness
from .datum_planes import align_datum_planes
from .hold import Hold
from .holds import HoldsAlignment, align_holds
from .ledger import HoldLedger
from .reference_points import ReferenceAlignment, align_reference_points, expansion_scale, u_expansion_scale
from .similarity import Similarity, similarity

__all__ = [
    "Alignment", "Hold", "HoldLedger", "HoldsAlignment", "ReferenceAlignment", "Similarity", "Squareness",
    "align_datum_planes", "align_holds", "align_reference_points", "expansion_scale", "similarity", "u_expansion_scale",
]  # fmt: skip
