"""Which instrument, probe, calibration and person measured which piece, and when."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.units import marked
from ...exchange.document import DataSheet
from ...store.models import Calibration, Change, Instrument, Reading, Station, User
from ..kit.probes import calibration_words


@dataclass(frozen=True)
class MeasuredWith:
    """``first``, ``last``: None of a piece that nobody has measured."""

    instruments: tuple[str, ...] = ()
    probes: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    first: datetime | None = None
    last: datetime | None = None
    coldest_c: float | None = None
    warmest_c: float | None = None

    @property
    def when(self) -> str:
        if self.first is None or self.last is None:
            return "not measured yet"
        if self.first.date() == self.last.date():
            return f"{self.first:%Y-%m-%d %H:%M} to {self.last:%H:%M} UTC"
        return f"{self.first:%Y-%m-%d %H:%M} to {self.last:%Y-%m-%d %H:%M} UTC"

    @property
    def warmth(self) -> str:
        return "" if self.coldest_c is None else marked(f"{self.coldest_c:.1f} to {self.warmest_c:.1f}") + " °C"


def measured_with(session: Session, pieces: Collection[int]) -> dict[int, MeasuredWith]:
    """Of each piece."""
    found = {piece: MeasuredWith() for piece in pieces}
    read = select(
        Reading.job_id, func.min(Reading.kept_at), func.max(Reading.kept_at), func.min(Reading.temperature_c),
        func.max(Reading.temperature_c), func.array_agg(Reading.station_id.distinct()),
        func.array_agg(Reading.calibration_id.distinct()),
    ).where(Reading.job_id.in_(pieces)).group_by(Reading.job_id)  # fmt: skip
    rows = session.execute(read).all()
    stations = _stations(session, {each for row in rows for each in row[5] if each})
    probes = _probes(session, {each for row in rows for each in row[6] if each})
    people = _people(session, pieces)
    for piece, first, last, cold, warm, at, by in rows:
        assert piece is not None
        found[piece] = MeasuredWith(
            tuple(dict.fromkeys(stations[each] for each in at if each)), tuple(probes[each] for each in by if each),
            tuple(people.get(piece, ())), first, last, cold, warm,
        )  # fmt: skip
    return found


def _stations(session: Session, ids: Collection[int]) -> dict[int, str]:
    query = select(Station.id, Instrument.name, Instrument.serial).join(Instrument, Instrument.id == Station.instrument_id)
    return {i: f"{name}, {serial}" if serial else name for i, name, serial in session.execute(query.where(Station.id.in_(ids)))}


def _probes(session: Session, ids: Collection[int]) -> dict[int, str]:
    return {each.id: calibration_words(each) for each in session.scalars(select(Calibration).where(Calibration.id.in_(ids)))}


def _people(session: Session, pieces: Collection[int]) -> dict[int, list[str]]:
    """Who did anything to a piece, in the order of their names."""
    query = select(Change.job_id, User.name).join(User, User.id == Change.user_id).where(Change.job_id.in_(pieces)).distinct()
    found: dict[int, list[str]] = {}
    for piece, name in session.execute(query.order_by(User.name)):
        assert piece is not None
        found.setdefault(piece, []).append(name)
    return found


def with_sheet(called: dict[int, str], found: dict[int, MeasuredWith]) -> DataSheet:
    """A line a piece."""
    lines = [
        [called[i], each.when, "; ".join(each.instruments), "; ".join(each.probes), "; ".join(each.people), each.warmth]
        for i, each in found.items()
    ]  # fmt: skip
    return DataSheet(
        "Measured with", ("Piece", "When", "Instrument", "Probe", "By", "Temperature"), (16, 32, 30, 60, 24, 16), lines
    )
