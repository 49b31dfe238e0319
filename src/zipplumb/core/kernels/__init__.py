"""Loops over points, compiled to machine code by numba: distances, descent, search.

Nothing here knows a shape class or an error sentence: numbers in, numbers out. They are
compiled once, when they are first imported, and kept beside the source; ``./run`` does that
at set-up so that nobody waits for it at work.
"""

from .curve import feet_on
from .descent import descend, inverse, rotation, stepped
from .distances import CODES, gradients, jacobian_rows, signed_distances
from .extremes import largest_of
from .holding import held_by, touches_seen
from .principal import centered, first_bad, laid_flat, middle, principal
from .search import basis, kasa, search, search_boxes
from .sightings import disagreements, sighting_equations, whitening

__all__ = [
    "CODES", "basis", "centered", "descend", "disagreements", "feet_on", "first_bad", "gradients", "held_by", "inverse",
    "jacobian_rows", "kasa", "laid_flat", "largest_of", "middle", "principal", "rotation", "search", "search_boxes",
    "sighting_equations", "signed_distances", "stepped", "touches_seen", "whitening",
]  # fmt: skip
