"""Words of a tolerance: symmetry."""

from ._shared import ToleranceWords


class SymmetryWords(ToleranceWords):
    noun = "symmetry"


WORDS = SymmetryWords()
