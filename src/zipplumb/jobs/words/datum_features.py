"""Words of an alignment: datum features."""

from ._shared import SystemWords


class DatumFeaturesWords(SystemWords):
    noun = "datum features"
    fields = {"datums": "Datums, primary first"}


WORDS = DatumFeaturesWords()
