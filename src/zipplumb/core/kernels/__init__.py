"""Loops over points, compiled to machine code by numba: distances, descent, search.

Nothing here knows a shape class or an error sentence: numbers in, numbers out. They are
compiled once, when they are first loaded, and kept beside the source; ``./run`` does that
at set-up so that nobody waits for it at work. Loading all takes a second, and a process that
reads a file, listens to an instrument or looks after others calls few: each is loaded with its
module when it is first called.
"""

from collections.abc import Callable
from functools import cache
from importlib import import_module
from typing import Any

from .codes import CODES

MODULES = (
    *("blocks", "curve", "descent", "distances", "extremes", "holding"),
    *("middles", "poses", "raster", "sightings", "splines", "spreading", "starts"),
)


def load() -> None:
    """Load every loop, which compiles those whose source has changed."""
    for module in MODULES:
        import_module(f"{__package__}.{module}")


def _loop(module: str, name: str) -> Callable[..., Any]:
    @cache
    def loaded() -> Callable[..., Any]:
        return getattr(import_module(f"{__package__}.{module}"), name)

    def at_first(*arguments: Any) -> Any:
        globals()[name] = loop = loaded()  # which is called by itself from now on
        return loop(*arguments)

    return at_first


basis = _loop("starts", "basis")
carried = _loop("poses", "carried")
centered = _loop("middles", "centered")
descend = _loop("descent", "descend")
disagreements = _loop("sightings", "disagreements")
feet_on = _loop("curve", "feet_on")
fill = _loop("raster", "fill")
first_bad = _loop("middles", "first_bad")
from_edges = _loop("middles", "from_edges")
gradients = _loop("distances", "gradients")
held_by = _loop("holding", "held_by")
inverse = _loop("descent", "inverse")
jacobian_rows = _loop("distances", "jacobian_rows")
kasa = _loop("starts", "kasa")
laid_flat = _loop("middles", "laid_flat")
largest_of = _loop("extremes", "largest_of")
mark_blocks = _loop("blocks", "mark_blocks")
middle = _loop("middles", "middle")
paint = _loop("raster", "paint")
principal = _loop("middles", "principal")
rotation = _loop("descent", "rotation")
search = _loop("starts", "search")
search_boxes = _loop("starts", "search_boxes")
sighting_equations = _loop("sightings", "sighting_equations")
signed_distances = _loop("distances", "signed_distances")
spline_feet = _loop("splines", "spline_feet")
spreads = _loop("spreading", "spreads")
stepped = _loop("descent", "stepped")
thinnest = _loop("spreading", "thinnest")
tinted = _loop("raster", "tinted")
touches_seen = _loop("holding", "touches_seen")
whitening = _loop("sightings", "whitening")

__all__ = [
    "CODES", "basis", "carried", "centered", "descend", "disagreements", "feet_on", "first_bad", "gradients", "held_by",
    "inverse", "jacobian_rows", "kasa", "laid_flat", "largest_of", "load", "middle", "principal", "rotation", "search",
    "search_boxes", "sighting_equations", "signed_distances", "stepped", "touches_seen", "whitening",
]  # fmt: skip
