"""Words of a tolerance: profile of a surface."""

from ._shared import ToleranceWords


class SurfaceProfileWords(ToleranceWords):
    noun = "profile of a surface"


WORDS = SurfaceProfileWords()
