"""Words of a torus."""

from ._shared import EnclosedWords


class TorusWords(EnclosedWords):
    noun, bore, boss, how = "torus", "groove", "ring", "along the ring and across it"


WORDS = TorusWords()
