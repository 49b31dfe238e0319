"""All pieces of the job together: run charts, spread, trend and capability."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from ....exchange.document import Chart, DataSheet, Section
from ...outcomes.measured_with import MeasuredWith, measured_with, with_sheet
from ...outcomes.over import Piece, judged_first, together
from ...outcomes.told import RunTold, piece_columns, runs_told, summary_sheet
from .base import Gathering, Part

CHARTED, PRINTED = 6, 60  # characteristics with a chart in a table, and in print
ORDERS = {"worst": "the worst first", "sheet": "as on the sheet"}


@dataclass(frozen=True)
class PiecesShown:
    """``more``: so many characteristics are in the tables alone."""

    pieces: list[tuple[Piece, MeasuredWith]]
    runs: list[RunTold]
    more: int


class PiecesPart(Part):
    """``judged``: only what has limits; ``order``: one of ``ORDERS``."""

    kind: Literal["pieces"] = "pieces"
    noun = "Over all pieces"
    usual = False
    over_pieces = True
    order: Literal["worst", "sheet"] = "worst"
    judged: bool = True

    def gather(self, of: Gathering) -> Section | None:
        job = of.state.job
        found = together(of.session, job.id, at_once=of.kept)
        chosen = [each for each in found.characteristics if each.judged or not self.judged] or found.characteristics
        runs = runs_told(found.with_only(judged_first(chosen) if self.order == "worst" else chosen), job.units)
        if not runs:
            return None
        called = {piece.id: piece.called for piece in found.pieces}
        with_what = measured_with(of.session, called)
        pieces = [(piece, with_what[piece.id]) for piece in found.pieces]
        sheets = (summary_sheet(runs), piece_columns(runs), _run_sheet(runs), with_sheet(called, with_what))
        return Section(self.kind, self.title, PiecesShown(pieces, runs[:PRINTED], max(len(runs) - PRINTED, 0)), sheets)

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        return {"order": texts.get("order", "worst"), "judged": texts.get("judged", "1") == "1"}

    def shown(self) -> dict[str, str]:
        return {"order": self.order, "judged": "1" if self.judged else ""}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (("order", "In which order", 1), ("judged", "Which of them", 1))

    @property
    def choices(self) -> Mapping[str, tuple[tuple[str, str], ...]]:
        return {"order": tuple(ORDERS.items()), "judged": (("1", "what has limits"), ("", "all that was measured"))}


def _run_sheet(runs: list[RunTold]) -> DataSheet:
    """A line a piece, a column for each of the first characteristics, with a chart of each."""
    drawn = runs[:CHARTED]
    values = [{each.at: run.value(each.value) for each in run.of.found} for run in drawn]
    lines = [[piece, *(each.get(at) for each in values)] for at, piece in enumerate(drawn[0].pieces)]
    charts = tuple(Chart(run.title, (k,), 0) for k, run in enumerate(drawn, start=1))
    headings = ("Piece", *(f"{run.title} ({run.unit})" for run in drawn))
    return DataSheet("Runs", headings, (16, *[22] * len(drawn)), lines, charts)


KIND = PiecesPart
