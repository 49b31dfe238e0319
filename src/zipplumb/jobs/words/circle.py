"""Words of a circle."""

from ._shared import EnclosedWords


class CircleWords(EnclosedWords):
    noun, bore, boss, how = "circle", "hole", "boss", "all round, at one depth"


WORDS = CircleWords()
