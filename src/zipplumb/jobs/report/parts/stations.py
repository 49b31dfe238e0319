"""How the instrument's stations are tied to one another."""

from __future__ import annotations

from typing import Literal

from ....exchange.document import DataSheet, Section
from ...kit.network_text import network_text
from .base import Gathering, Part


class StationsPart(Part):
    kind: Literal["stations"] = "stations"
    noun = "Stations of the instrument"

    def gather(self, of: Gathering) -> Section | None:
        if len(of.state.kit.stations) < 2:
            return None
        told = network_text(of.state)
        lines = [[each.name, each.instrument, each.word, each.line] for each in told.stations]
        sheet = DataSheet("Stations", ("Station", "Instrument", "Tied", "How well"), (16, 24, 12, 80), lines)
        return Section(self.kind, self.title, told, (sheet,))


KIND = StationsPart
