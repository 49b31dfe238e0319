"""Maps of how far surfaces lie off the CAD: figures, scale, how many places lie where, and pins."""

from __future__ import annotations

from typing import Literal

from ....exchange.document import DataSheet, Section
from ....exchange.map_table import maps_sheet
from ...measure.maps import map_tables
from .base import Gathering, RowsChosen


class MapsPart(RowsChosen):
    kind: Literal["maps"] = "maps"
    noun = "Maps of surfaces"

    def gather(self, of: Gathering) -> Section | None:
        chosen = self.chosen(of)
        state = of.state
        wanted = [row.id for row in state.rows if row.recipe.role == "map" and row.id in chosen]
        tables = map_tables(state, wanted) if wanted else []
        if not tables:
            return None
        pins = [text for text in of.texts if state.row(text.id).recipe.on_map in wanted]
        return Section(self.kind, self.title, tables, (maps_sheet(tables), *([_pins(pins)] if pins else [])))


def _pins(texts: list) -> DataSheet:
    lines = [
        [t.name, c.deviation_value, c.lower_value, c.upper_value, t.word, c.uncertainty_value, c.unit]
        for t in texts for c in t.characteristics
    ]  # fmt: skip
    headings = ("Pin", "Deviation", "Lower limit", "Upper limit", "Result", "U (k=2)", "Unit")
    return DataSheet("Pins", headings, (24, 12, 12, 12, 12, 10, 6), lines)


KIND = MapsPart
