"""Words of a table of holes."""

from typing import Any

from ._shared import KindWords


class HoleTableWords(KindWords):
    noun = "table of holes"
    fields = {
        "of": "Holes", "origin": "Told from the center of", "polar": "Distance from zero and angle too",
        "within_mm": "X and Y within ±",
    }  # fmt: skip

    def stem(self, recipe: Any) -> str:
        return "Holes"


WORDS = HoleTableWords()
