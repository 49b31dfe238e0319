"""Words of a scan."""

from typing import Any

from ...core.units import Units
from ._shared import KindWords


class ScanWords(KindWords):
    noun = "scan"
    fields = {
        "asks": "What is to be scanned",
        "gives": "When it is finished, rows that are not measured take their points from it",
        "grid_mm": "One point of every",
        "within_mm": "A row's points lie off its face by at most",
        "margin_mm": "And from the face's edges at least",
    }

    def ask(self, recipe: Any, units: Units) -> str:
        return f"Scan {recipe.asks.strip().rstrip('.') or recipe.name}."


WORDS = ScanWords()
