"""Words of an alignment: three datum planes."""

from ._shared import SystemWords


class DatumPlanesWords(SystemWords):
    noun = "three datum planes"
    fields = {"primary": "Primary", "secondary": "Secondary", "tertiary": "Tertiary"}


WORDS = DatumPlanesWords()
