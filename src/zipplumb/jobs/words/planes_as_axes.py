"""Words of an alignment: planes that stand for axes."""

from ._shared import SystemWords


class PlanesAsAxesWords(SystemWords):
    noun = "planes that stand for axes"
    fields = {"planes": "Planes", "axis": "Stands for"}


WORDS = PlanesAsAxesWords()
