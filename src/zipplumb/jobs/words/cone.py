"""Words of a cone."""

from typing import Any

from ._shared import EnclosedWords


class ConeWords(EnclosedWords):
    noun, bore, boss, how = "cone", "conical seat", "taper", "at three depths"

    def label(self, recipe: Any, key: str) -> str:
        return "full angle" if key == "angle" else super().label(recipe, key)


WORDS = ConeWords()
