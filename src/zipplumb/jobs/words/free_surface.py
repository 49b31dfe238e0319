"""Words of a free surface."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class FreeSurfaceWords(KindWords):
    noun = "free surface"

    def ask(self, recipe: Any, units: Units) -> str:
        return f"Touch {recipe.name} all over, {recipe.hits} hits or more."


WORDS = FreeSurfaceWords()
