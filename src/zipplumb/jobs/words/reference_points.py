"""Words of an alignment: reference points."""

from ._shared import SystemWords


class ReferencePointsWords(SystemWords):
    noun = "reference points"
    fields = {"points": "Points", "u_mm": "Uncertainty of each"}


WORDS = ReferencePointsWords()
