"""Words of a bolt circle."""

from typing import Any

from ._shared import KindWords


class BoltCircleWords(KindWords):
    noun = "bolt circle"
    fields = {
        "of": "Holes", "places": "Places of the full pattern, where holes are missing",
        "within_mm": "Each hole within ±, outward and along",
    }  # fmt: skip

    def stem(self, recipe: Any) -> str:
        return "Bolt circle"


WORDS = BoltCircleWords()
