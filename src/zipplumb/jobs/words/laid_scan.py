"""Words of an alignment: a scan laid on the surfaces."""

from ._shared import SystemWords


class LaidScanWords(SystemWords):
    noun = "scan on the surfaces"
    fields = {"scans": "Scans", "u_mm": "How far the part's own form may be off"}


WORDS = LaidScanWords()
