"""Words of a tolerance: angularity."""

from ._shared import ToleranceWords


class AngularityWords(ToleranceWords):
    noun = "angularity"


WORDS = AngularityWords()
