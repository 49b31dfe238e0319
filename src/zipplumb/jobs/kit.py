"""Instruments, stations and probes, as far as the first slice needs them."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import select

from ..core.errors import InputError
from ..store.database import tell, transaction
from ..store.models import Calibration, Instrument, Job, Probe, Station
from .actor import Actor, record


def add_instrument(name: str, kind: str, host: str, port: int, u_hit_mm: float) -> int:
    """An instrument by its address; one with the same name is moved to the new address."""
    with transaction() as session:
        found = session.scalar(select(Instrument).where(Instrument.name == name))
        if found is None:
            found = Instrument(name=name, kind=kind, host=host, port=port, u_hit_mm=u_hit_mm)
            session.add(found)
        found.host, found.port = host, port
        session.flush()
        return found.id


def add_calibrated_probe(
    instrument_id: int, name: str, offset_mm: list[float], diameter_mm: float, rms_mm: float, u_radius_mm: float, note: str
) -> int:
    """A probe with one calibration, put on an instrument. Returns the calibration's id."""
    with transaction() as session:
        probe = Probe(name=name, kind="ball", diameter_mm=diameter_mm)
        session.add(probe)
        session.flush()
        calibration = Calibration(
            probe_id=probe.id, offset_mm=offset_mm, diameter_mm=diameter_mm, rms_mm=rms_mm, u_radius_mm=u_radius_mm, note=note
        )
        session.add(calibration)
        session.flush()
        session.get(Instrument, instrument_id).calibration_id = calibration.id
        return calibration.id


def bring_instrument(actor: Actor, job_id: int, instrument_id: int) -> None:
    """The instrument stands at this job from now on: a new station, or the job's last one of it."""
    actor.must_change()
    with transaction() as session:
        instrument = session.get(Instrument, instrument_id, with_for_update=True)
        if instrument is None or session.get(Job, job_id) is None:
            raise InputError("That instrument is not there.", "Nothing was changed.", "Choose one from the list.")
        query = select(Station).where(Station.job_id == job_id, Station.instrument_id == instrument_id)
        station = session.scalars(query.order_by(Station.id.desc())).first()
        if station is None:
            station = Station(job_id=job_id, instrument_id=instrument_id, name="Station 1")
            session.add(station)
            session.flush()
        instrument.station_id = station.id
        record(session, actor, job_id, "bring instrument", instrument=instrument_id, station=station.id)
        tell(session, job_id, "kit")


def seen(instrument_id: int, **state) -> None:
    """What the link sees of an instrument; every page of its job is told when it changes."""
    with transaction() as session:
        instrument = session.get(Instrument, instrument_id)
        changed = any(getattr(instrument, k) != v for k, v in state.items())
        for name, value in state.items():
            setattr(instrument, name, value)
        instrument.seen_at = datetime.now(UTC)
        if changed:
            station = session.get(Station, instrument.station_id) if instrument.station_id else None
            lost = state.get("connected") is False
            tell(session, station.job_id if station else None, "kit", tone="lost" if lost else None)


def instruments() -> list[Instrument]:
    with transaction() as session:
        return list(session.scalars(select(Instrument).order_by(Instrument.id)))
