"""Words of a map of deviations."""

from typing import Any

from ._shared import KindWords


class DeviationsWords(KindWords):
    noun = "surface map"
    fields = {
        "scan": "Of the scan",
        "system": "In the alignment",
        "reach_mm": "What lies farther off the CAD is not of the part",
        "margin_mm": "And what lies nearer to an edge than",
    }
    labels = {
        "largest": "farthest out", "smallest": "farthest in", "profile": "profile", "mean": "mean",
        "spread": "spread", "low": "2.5 % lie under",
        "high": "2.5 % lie over", "worst": "worst place",
    }  # fmt: skip

    def label(self, recipe: Any, key: str) -> str:
        return self.labels.get(key) or super().label(recipe, key)


WORDS = DeviationsWords()
