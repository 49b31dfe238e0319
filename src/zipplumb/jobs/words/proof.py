"""Words of proof points."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class ProofWords(KindWords):
    noun = "proof points"

    def stem(self, recipe: Any) -> str:
        return "Proof points"

    def ask(self, recipe: Any, units: Units) -> str:
        return f"{recipe.name}: go to any surface, read, take."


WORDS = ProofWords()
