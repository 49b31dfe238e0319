"""Words of a tolerance: circular run-out."""

from ._shared import ToleranceWords


class CircularRunoutWords(ToleranceWords):
    noun = "circular run-out"


WORDS = CircularRunoutWords()
