"""Words of a surface point."""

from typing import Any

from ...core.units import Units
from ._shared import FacingWords


class SurfacePointWords(FacingWords):
    noun = "surface point"

    def ask(self, recipe: Any, units: Units) -> str:
        if recipe.hits == 1:
            return f"Touch {recipe.name} once, straight on."
        return f"Touch {recipe.name}, three hits in a small triangle."


WORDS = SurfacePointWords()
