"""Words of a tolerance: roundness."""

from ._shared import ToleranceWords


class RoundnessWords(ToleranceWords):
    noun = "roundness"


WORDS = RoundnessWords()
