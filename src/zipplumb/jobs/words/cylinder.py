"""Words of a cylinder."""

from ._shared import EnclosedWords


class CylinderWords(EnclosedWords):
    noun, bore, boss, how = "cylinder", "bore", "boss", "at three depths"


WORDS = CylinderWords()
