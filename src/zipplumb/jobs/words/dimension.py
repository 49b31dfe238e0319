"""Words of a dimension."""

from typing import Any

from ._derivations import NUMBERS, choices_of, derivation_words
from ._shared import KindWords


class DimensionWords(KindWords):
    noun = "dimension"

    def stem(self, recipe: Any) -> str:
        return "Angle" if "angle" in recipe.measure or recipe.measure in ("supplement", "out_of_parallel") else "Distance"

    def label(self, recipe: Any, key: str) -> str:
        return derivation_words(recipe.measure).lower().replace(" x", " X").replace(" y", " Y").replace(" z", " Z")

    def choices(self, name: str) -> list[tuple[str, str]] | None:
        return choices_of(NUMBERS) if name == "measure" else None


WORDS = DimensionWords()
