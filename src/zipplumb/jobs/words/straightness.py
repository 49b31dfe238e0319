"""Words of a tolerance: straightness."""

from ._shared import ToleranceWords


class StraightnessWords(ToleranceWords):
    noun = "straightness"


WORDS = StraightnessWords()
