"""Words of a tolerance: perpendicularity."""

from ._shared import ToleranceWords


class PerpendicularityWords(ToleranceWords):
    noun = "perpendicularity"


WORDS = PerpendicularityWords()
