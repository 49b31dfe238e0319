"""Words of a pin on a map."""

from ._shared import KindWords


class PinWords(KindWords):
    noun = "pin"


WORDS = PinWords()
