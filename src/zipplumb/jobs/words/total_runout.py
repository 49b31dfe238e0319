"""Words of a tolerance: total run-out."""

from ._shared import ToleranceWords


class TotalRunoutWords(ToleranceWords):
    noun = "total run-out"


WORDS = TotalRunoutWords()
