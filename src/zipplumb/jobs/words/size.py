"""Words of a size."""

from typing import Any

from ._shared import KindWords


class SizeWords(KindWords):
    noun = "size"
    fields = {"of": "Of", "by": "Which size", "lower_mm": "Lower limit", "upper_mm": "Upper limit"}

    def label(self, recipe: Any, key: str) -> str:
        return {"envelope": "size, envelope", "two_point": "two-point size"}.get(recipe.by, "size")


WORDS = SizeWords()
