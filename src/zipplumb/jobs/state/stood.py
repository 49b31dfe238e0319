"""Stations of a job, present and past, and the calibrations with which they read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Set
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import bindparam, select
from sqlalchemy.orm import Session, contains_eager, lazyload

from ...core.calibration import Light, ProbeCalibration
from ...core.frames import Motion
from ...core.sheet import Kit, StationPose
from ...store import models
from ...store.models import Calibration, Instrument

STANDING = (
    select(models.Station, Instrument)
    .join(Instrument, Instrument.id == models.Station.instrument_id)
    .outerjoin(Calibration, Calibration.id == Instrument.calibration_id)
    .outerjoin(models.Probe, models.Probe.id == Calibration.probe_id)
    .options(contains_eager(Instrument.calibration).contains_eager(Calibration.probe))
    .where(models.Station.job_id == bindparam("job"))
    .order_by(models.Station.id)
)


@dataclass(frozen=True)
class StoodHere:
    """An instrument that stood at a station: plain values, since the cache of a job outlives the session that read them."""

    id: int
    name: str
    spec: dict[str, Any]
    u_hit_mm: float

    @classmethod
    def of(cls, instrument: Instrument) -> StoodHere:
        return cls(instrument.id, instrument.name, instrument.spec, instrument.u_hit_mm)


def stood_at(
    session: Session, job_id: int, first: Iterable[int], told: Mapping[int, dict[str, Any]], calibrations: Set[int]
) -> tuple[Kit, Instrument | None, dict[int, StoodHere]]:
    """Stations and calibrations of a job, the instrument that was brought to it last, and what stood at each station.

    Parameters
    ----------
    first : stations in the order in which they were read from; the first is the world, for as long as there are readings
    told : by station, the conditions of its newest reading
    calibrations : those that were read with; those that are on its instruments come to them
    """
    found = session.execute(STANDING, {"job": job_id}).all()
    order = {station: place for place, station in enumerate(first)}
    found = sorted(found, key=lambda pair: order.get(pair[0].id, len(order)))
    stations = {station.id: _station(station, told.get(station.id), i) for station, i in found}
    standing = [(station.brought_at, station.id, i) for station, i in found if i.station_id == station.id]
    here = max(standing, key=lambda each: each[:2])[2] if standing else None
    used = {*calibrations, *(i.calibration_id for _, i in found if i.calibration_id)}
    query = select(Calibration).where(Calibration.id.in_(used)).options(lazyload(Calibration.probe))
    known = {
        cal.id: ProbeCalibration(
            cal.id, np.array(cal.offset_mm), cal.diameter_mm, cal.u_radius_mm, cal.doubt, cal.u_offset_mm, _light(cal)
        )
        for cal in session.scalars(query)
    }
    return Kit(stations, known), here, {station.id: StoodHere.of(instrument) for station, instrument in found}


def _light(calibration: Calibration) -> Light | None:
    """Where a scanner's light stands; None of what is no scanner, or was not calibrated."""
    stands = calibration.detail.get("axis_from_scanner")
    return None if stands is None else Light(Motion.from_list(stands), calibration.rms_mm)


def _station(station: models.Station, told: dict[str, Any] | None, instrument: Instrument) -> StationPose:
    """With the level that was kept with its newest reading; before the first, as the instrument stands now."""
    now = {"level": instrument.level, "u_level_rad": instrument.u_level_rad}
    told = told or {name: value for name, value in now.items() if value is not None}
    up = np.array(told["level"]) if "level" in told else None
    return StationPose(station.id, Motion.identity(), up, told.get("u_level_rad", 0.0), name=station.name)
