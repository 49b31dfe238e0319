"""A detail as it was found and as it was left, target by target."""

from __future__ import annotations

from sqlalchemy.orm import Session

from ...core.frames import Array
from ...core.units import Units, in_units, length_text
from ...exchange.detail_table import DetailLine, DetailTable, Lay
from ..state.results import JobResults
from .details import PlacedDetail, details_of


def detail_tables(session: Session, state: JobResults) -> list[DetailTable]:
    """The tables of all details of a job of which something was seen."""
    return [detail_table(state, now) for now in details_of(session, state) if now.first or now.seen]


def detail_table(state: JobResults, now: PlacedDetail) -> DetailTable:
    lines = tuple(_line(state, now, row, zone) for row, zone in now.zones.items())
    return DetailTable(now.recipe.name, _state_of(now, lines), lines)


def _line(state: JobResults, now: PlacedDetail, row: int, zone_mm: float) -> DetailLine:
    units = state.job.units
    found, left = (
        _lay(places[row] - nominal[row], zone_mm, units) if row in places and row in nominal else None
        for places, nominal in ((now.first, now.first_nominal), (now.seen, now.nominal))
    )
    word = "to do" if left is None else "in" if left.zones <= 1 else "out"
    return DetailLine(
        state.row(row).recipe.name, found, left, length_text(zone_mm, units), in_units(zone_mm, units), word
    )  # fmt: skip


def _lay(off_mm: Array, zone_mm: float, units: Units) -> Lay:
    far = float((off_mm @ off_mm) ** 0.5)
    along = off_mm.tolist()
    x, y, z = (length_text(v, units, sign=True) for v in along)
    numbers = tuple(in_units(v, units) for v in (*along, far))
    return Lay((x, y, z), length_text(far, units), numbers, far / zone_mm)


def _state_of(now: PlacedDetail, lines: tuple[DetailLine, ...]) -> str:
    if now.refused:
        return now.refused
    unseen = sum(line.left is None for line in lines)
    if unseen:
        return f"{'Fixed; ' if now.fixed else ''}{unseen} of {len(lines)} targets are to be measured."
    out = sum(line.word == "out" for line in lines)
    is_in = "all targets are in" if not out else f"{out} of {len(lines)} targets are out"
    return f"{'Fixed: ' if now.fixed else 'Not fixed; as it lies now '}{is_in}."
