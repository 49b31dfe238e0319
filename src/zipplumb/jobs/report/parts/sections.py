"""Sections through scans, drawn flat."""

from __future__ import annotations

from typing import Literal

from ....exchange.document import Section
from ...measure.scan_sections import flat_of
from .base import Gathering, RowsChosen


class SectionsPart(RowsChosen):
    kind: Literal["sections"] = "sections"
    noun = "Sections through scans"

    def gather(self, of: Gathering) -> Section | None:
        chosen = self.chosen(of)
        found = []
        for text in of.texts:
            flat = flat_of(of.state, text.id) if text.id in chosen else None
            if flat is not None:
                found.append((text.name, flat.drawn()))
        return Section(self.kind, self.title, found) if found else None


KIND = SectionsPart
