"""Rows of the run sheet, with their numbers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from ....exchange.columns import rows_sheet
from ....exchange.document import Section
from ....exchange.table import RowText
from .base import Gathering, RowsChosen

WORST_FIRST = ("out", "not proven", "close", "in", "done", "asks", "failed", "taking", "to do")
ORDERS = {"sheet": "as on the sheet", "result": "by result, the worst first", "kind": "grouped by what they are"}


class RowsPart(RowsChosen):
    """``order``: one of ``ORDERS``; ``word``: only rows with such a result, "" for all."""

    kind: Literal["rows"] = "rows"
    noun = "Rows of the sheet"
    order: Literal["sheet", "result", "kind"] = "sheet"
    word: Literal["", "in", "close", "out", "not proven"] = ""

    def gather(self, of: Gathering) -> Section | None:
        chosen = self.chosen(of)
        texts = [text for text in of.texts if text.id in chosen and self.word in ("", text.word)]
        if not texts:
            return None
        return Section(self.kind, self.title, self._grouped(texts), (rows_sheet(texts),))

    def _grouped(self, texts: list[RowText]) -> list[tuple[str, list[RowText]]]:
        """Headings, and the rows under each; "" for one group alone."""
        if self.order == "kind":
            nouns = dict.fromkeys(text.kind for text in texts)
            return [(noun.capitalize(), [text for text in texts if text.kind == noun]) for noun in nouns]
        if self.order == "result":
            texts = sorted(texts, key=lambda text: _rank(text.word))
        return [("", texts)]

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        return super().typed(texts) | {name: texts.get(name, cls.model_fields[name].default) for name in ("order", "word")}

    def shown(self) -> dict[str, str]:
        return super().shown() | {"order": self.order, "word": self.word}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (*super().fields, ("order", "In which order", 1), ("word", "Which of them", 1))

    @property
    def choices(self) -> Mapping[str, tuple[tuple[str, str], ...]]:
        words = (("", "all"), *((word, f"those that are {word}") for word in ("in", "close", "out", "not proven")))
        return {"order": tuple(ORDERS.items()), "word": words}


def _rank(word: str) -> int:
    return WORST_FIRST.index(word) if word in WORST_FIRST else len(WORST_FIRST)


KIND = RowsPart
