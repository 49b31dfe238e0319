"""Words of a slot."""

from ._shared import EnclosedWords


class SlotWords(EnclosedWords):
    noun, bore, boss, how = "slot", "slot", "key", "along both sides and round both ends"


WORDS = SlotWords()
