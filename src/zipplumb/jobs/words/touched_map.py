"""Words of a map of what was touched."""

from .deviations import DeviationsWords


class TouchedMapWords(DeviationsWords):
    noun = "touched map"
    fields = {"of": "Of the hits of"}


WORDS = TouchedMapWords()
