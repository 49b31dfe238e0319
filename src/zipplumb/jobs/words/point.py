"""Words of a point."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class PointWords(KindWords):
    noun = "point"
    fields = {"known_u_mm": "Known place that ties stations: u"}

    def ask(self, recipe: Any, units: Units) -> str:
        return f"Set the tip or the reflector at {recipe.name} and take {recipe.hits}."


WORDS = PointWords()
