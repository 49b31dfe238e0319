"""Words of a scan."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class ScanWords(KindWords):
    noun = "scan"
    fields = {
        "grid_mm": "One point of every",
        "within_mm": "A row's points lie off its face by at most",
        "margin_mm": "And from the face's edges at least",
    }

    def ask(self, recipe: Any, units: Units) -> str:
        return f"Scan {recipe.name}."


WORDS = ScanWords()
