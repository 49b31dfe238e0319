"""Words of a tolerance: cylindricity."""

from ._shared import ToleranceWords


class CylindricityWords(ToleranceWords):
    noun = "cylindricity"


WORDS = CylindricityWords()
