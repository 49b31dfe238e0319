"""Words of a plane."""

from ._shared import FacingWords


class PlaneWords(FacingWords):
    noun = "plane"


WORDS = PlaneWords()
