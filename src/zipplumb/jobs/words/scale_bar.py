"""Words of a scale bar."""

from ._shared import KindWords


class ScaleBarWords(KindWords):
    noun = "scale bar"
    fields = {
        "of": "Its ends", "length_mm": "Certified length", "u_mm": "Known to (standard uncertainty)",
        "within_mm": "It may differ by ±",
    }  # fmt: skip


WORDS = ScaleBarWords()
