"""Words of an alignment: guided points."""

from ._shared import SystemWords


class GuidedWords(SystemWords):
    noun = "guided points"
    fields = {"points": "Points, in their order", "zone_mm": "Zone"}


WORDS = GuidedWords()
