"""Words of a tolerance: coaxiality."""

from ._shared import ToleranceWords


class CoaxialityWords(ToleranceWords):
    noun = "coaxiality"


WORDS = CoaxialityWords()
