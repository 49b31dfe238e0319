"""Words of a sphere."""

from ._shared import EnclosedWords


class SphereWords(EnclosedWords):
    noun, bore, boss, how = "sphere", "ball seat", "ball", "all over it"


WORDS = SphereWords()
