"""Words of a place on an edge."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class EdgePointWords(KindWords):
    noun = "edge point"
    fields = {"direction": "Faces"}

    def ask(self, recipe: Any, units: Units) -> str:
        flank = f"the flank of the edge{' once' if recipe.hits == 1 else ''}; pull off along the surface."
        if recipe.plane_hits:
            return f"Touch the surface at {recipe.name}, {recipe.plane_hits} hits, then {flank}"
        return f"At {recipe.name} touch {flank}"


WORDS = EdgePointWords()
