"""Words of a tolerance: parallelism."""

from ._shared import ToleranceWords


class ParallelismWords(ToleranceWords):
    noun = "parallelism"


WORDS = ParallelismWords()
