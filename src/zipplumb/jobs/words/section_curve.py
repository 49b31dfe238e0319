"""Words of a section curve."""

from typing import Any

from ...core.units import Units, length_text
from ._shared import KindWords


class SectionCurveWords(KindWords):
    noun = "section curve"
    fields = {"every_mm": "A target every"}

    def ask(self, recipe: Any, units: Units) -> str:
        every = length_text(recipe.nominal.length / recipe.wanted_hits, units)
        return f"Follow {recipe.name} along its line, {recipe.wanted_hits} hits, one every {every}."


WORDS = SectionCurveWords()
