"""Words of an arc."""

from typing import Any

from ...core.units import Units
from ._shared import EnclosedWords


class ArcWords(EnclosedWords):
    noun, bore, boss = "arc", "hollow arc", "arc"
    how = "from one end to the other, at one depth"

    def ask(self, recipe: Any, units: Units) -> str:
        where = "inside" if recipe.inside else "along"
        letter = f" (datum {recipe.datum})" if recipe.datum else ""
        return f"Touch {where} {recipe.name}{letter}, {recipe.hits} hits {self.how}."


WORDS = ArcWords()
