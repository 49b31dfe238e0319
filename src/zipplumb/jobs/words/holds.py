"""Words of an alignment: best fit with holds."""

from ._shared import SystemWords


class HoldsWords(SystemWords):
    noun = "best fit with holds"
    fields = {"holds": "Holds", "directions": "In", "level": "Level", "u_mm": "Weight, uncertainty"}


WORDS = HoldsWords()
