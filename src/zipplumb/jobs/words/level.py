"""Words of an alignment: level."""

from typing import Any

from ._shared import KindWords


class LevelWords(KindWords):
    noun = "level"
    fields = {"station": "By the level of", "plane": "Square to the plane", "origin": "Zero at"}

    def stem(self, recipe: Any) -> str:
        return "Level"


WORDS = LevelWords()
