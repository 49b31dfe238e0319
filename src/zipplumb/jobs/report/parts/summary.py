"""How many rows stand how."""

from __future__ import annotations

from collections import Counter
from typing import Literal

from ....exchange.document import DataSheet, Section
from .base import Gathering, Part

WORDS = ("in", "close", "out", "not proven", "to do")


class SummaryPart(Part):
    kind: Literal["summary"] = "summary"
    noun = "How many are in and out"

    def gather(self, of: Gathering) -> Section:
        counts = Counter(text.word for text in of.texts)
        sheet = DataSheet("Summary", ("Result", "Rows"), (20, 10), [[word, counts[word]] for word in WORDS])
        return Section(self.kind, self.title, [(word, counts[word]) for word in WORDS], (sheet,))


KIND = SummaryPart
