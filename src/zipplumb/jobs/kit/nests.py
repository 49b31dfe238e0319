"""Known nests around an instrument: positions of reflectors in them as read from the current station."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...store.models import Instrument, Probe, Station
from ..state.results import load


def nests_read(session: Session, instrument: Instrument) -> dict[str, Any]:
    """The nests that were read from where it stands, what is on it, and the library of reflectors. Raises InputError."""
    station = session.get(Station, instrument.station_id) if instrument.station_id else None
    if station is None or instrument.calibration is None:
        raise InputError(f"{instrument.name} stands at no job.", "Nothing was begun.", "Bring it to one, and read a nest.")

    state = load(session, station.job_id)
    known = []
    for row in state.measured:
        reading = state.readings.get(row.id)
        if not row.recipe.ties_stations or reading is None:
            continue
        mine = (reading.stations == station.id) & ~reading.aside
        if mine.any():
            with_it = int(reading.calibrations[mine][0])
            same = mine & (reading.calibrations == with_it)
            known.append(
                [row.recipe.name, reading.poses[same, :3].mean(axis=0).tolist(), state.kit.calibrations[with_it].diameter_mm]
            )
    if not known:
        raise InputError("No nest was read from where it stands.", "Nothing was begun.", "Read one with a reflector you know.")
    query = select(Probe.name, Probe.diameter_mm).where(Probe.kind == "reflector", Probe.removed_at.is_(None))
    on = instrument.calibration
    return {
        "known": known, "on": [on.probe.name, on.diameter_mm],
        "library": [list(each) for each in session.execute(query.order_by(Probe.name))],
    }  # fmt: skip
