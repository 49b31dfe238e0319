"""Tables of holes and of bolt circles: a line for each hole."""

from __future__ import annotations

from typing import Literal

from ....exchange.document import DataSheet, Section
from ....exchange.table import CharacteristicText, RowText
from .base import Gathering, RowsChosen

NAMED = (
    "Table",
    "Hole",
    "Quantity",
    "Nominal",
    "Actual",
    "Deviation",
    "Lower limit",
    "Upper limit",
    "Result",
    "U (k=2)",
    "Unit",
)


class HolesPart(RowsChosen):
    kind: Literal["holes"] = "holes"
    noun = "Tables of holes"

    def gather(self, of: Gathering) -> Section | None:
        chosen = self.chosen(of)
        found = [
            text for text in of.texts if of.state.row(text.id).recipe.is_table and text.id in chosen and text.characteristics
        ]
        if not found:
            return None
        lines = [[text.name, *_line(text, c)] for text in found for c in text.characteristics]
        sheet = DataSheet("Holes", NAMED, (20, 20, 14, *[12] * (len(NAMED) - 3)), lines)
        return Section(self.kind, self.title, [(text, holes_of(text)) for text in found], (sheet,))


def holes_of(text: RowText) -> list[tuple[str, dict[str, CharacteristicText]]]:
    """Each hole with its numbers by what they are."""
    found: dict[str, dict[str, CharacteristicText]] = {}
    for c in text.characteristics:
        hole, _, quantity = c.key.rpartition(" ")
        found.setdefault(hole, {})[quantity] = c
    return list(found.items())


def _line(text: RowText, c: CharacteristicText) -> list:
    hole, _, quantity = c.key.rpartition(" ")
    return [
        hole, quantity, c.nominal_value, c.actual_value, c.deviation_value, c.lower_value, c.upper_value, c.word,
        c.uncertainty_value, c.unit,
    ]  # fmt: skip


KIND = HolesPart
