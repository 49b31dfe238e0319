"""Words of a tolerance: profile of a line."""

from ._shared import ToleranceWords


class LineProfileWords(ToleranceWords):
    noun = "profile of a line"


WORDS = LineProfileWords()
