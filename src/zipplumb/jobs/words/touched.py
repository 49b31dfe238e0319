"""Words of something that was just touched."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class TouchedWords(KindWords):
    noun = "something touched"
    fields = {"flat": "In a plane"}

    def stem(self, recipe: Any) -> str:
        return "Touched"

    def ask(self, recipe: Any, units: Units) -> str:
        return f"{recipe.name}: touch anything, and what it is is told as you go."


WORDS = TouchedWords()
