"""Words of a construction."""

from typing import Any

from ._derivations import SHAPES, choices_of, derivation_words
from ._shared import KindWords


class ConstructionWords(KindWords):
    noun = "construction"

    def stem(self, recipe: Any) -> str:
        return derivation_words(recipe.make)

    def choices(self, name: str) -> list[tuple[str, str]] | None:
        return choices_of(SHAPES) if name == "make" else None


WORDS = ConstructionWords()
