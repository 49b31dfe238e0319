"""Words of a tolerance: flatness."""

from ._shared import ToleranceWords


class FlatnessWords(ToleranceWords):
    noun = "flatness"


WORDS = FlatnessWords()
