"""Words of a tolerance: position."""

from ._shared import ToleranceWords


class PositionWords(ToleranceWords):
    noun = "position"


WORDS = PositionWords()
