"""Words of a line."""

from ._shared import FacingWords


class LineWords(FacingWords):
    noun = "line"


WORDS = LineWords()
