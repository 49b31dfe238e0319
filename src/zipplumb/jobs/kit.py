"""Instruments: adding them, bringing them to a job, and how the link sees them."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import select

from ..core.errors import InputError
from ..store.database import stored, tell, transaction
from ..store.models import Calibration, Instrument, Job, Probe, Station
from .actor import Actor, record

# what a maker states, by kind of instrument: field of the form, in words, its unit, and what is usual
SPECIFICATIONS = {
    "arm": (("u_hit", "One hit, standard uncertainty", "mm", 0.012), ("point_limit", "Single point, limit", "mm", 0.05),
            ("length_limit", "Length, limit", "mm", 0.06), ("sphere_check_limit", "Sphere, limit", "mm", 0.05)),
    "tracker": (("range", "Range", "µm", 5.0), ("range_per_m", "and per metre", "µm/m", 1.0), ("angle", "Angle", "µrad", 3.0),
                ("faces_limit", "Two faces, limit", "mm", 0.06), ("drift_limit", "Drift, limit", "mm", 0.06),
                ("length_limit", "Length, limit", "mm", 0.05)),
}  # fmt: skip
SPECIFICATIONS["radar"] = SPECIFICATIONS["tracker"]
INSTRUMENT_KINDS = {"arm": "arm", "tracker": "laser tracker", "radar": "laser radar"}
FACTOR = {"mm": 1.0, "µm": 1e-3, "µm/m": 1e-3, "µrad": 1e-6}
SUFFIX = {"mm": "mm", "µm": "mm", "µm/m": "mm", "µrad": "rad"}
AT_METRES = 3.0  # a tracker's hit is told for this distance


def spec_from_form(kind: str, form: Mapping[str, str]) -> dict[str, float]:
    """What the maker states, from the form. Raises InputError naming the field."""
    found = {}
    for field, words, unit, usual in SPECIFICATIONS[kind]:
        text = (form.get(field) or str(usual)).replace(",", ".")
        try:
            value = float(text)
        except ValueError:
            value = -1.0
        if not 0 < value < 1000:
            raise InputError(f"“{text[:20]}” in {words.lower()} is no such number.", "Nothing was kept.", f"Type it in {unit}.")
        found[f"{field}_{SUFFIX[unit]}"] = value * FACTOR[unit]
    return found


def hit_of_spec(kind: str, spec: Mapping[str, float]) -> float:
    """The standard uncertainty (mm) of one hit; a tracker's at three metres, the worse of along and across."""
    if kind == "arm":
        return spec["u_hit_mm"]
    return max(spec["range_mm"] + spec["range_per_m_mm"] * AT_METRES, spec["angle_rad"] * AT_METRES * 1000)


def add_from_form(actor: Actor, form: Mapping[str, str]) -> int:
    """A new instrument as typed. Raises InputError naming the field. Returns its id."""
    actor.must_change()
    name, kind, host, port = (form.get(k, "").strip() for k in ("name", "kind", "host", "port"))
    if not name or kind not in INSTRUMENT_KINDS:
        raise InputError("The instrument has no name, or no kind.", "Nothing was kept.", "Give both.")
    if host not in ("127.0.0.1", "localhost") and not _allowed(host):
        raise InputError(
            f"“{host[:40]}” is not among the addresses that instruments may have here.", "Nothing was kept.",
            "Ask an administrator to allow it, or type 127.0.0.1 for one on this machine.",
        )  # fmt: skip
    if not port.isdigit() or not 0 < int(port) < 65536:
        raise InputError(f"“{port[:10]}” is no port.", "Nothing was kept.", "Type a number from 1 to 65535.")
    with transaction() as session:
        if session.scalar(select(Instrument.id).where(Instrument.name == name)):
            raise InputError(f"There is an instrument “{name}” already.", "Nothing was kept.", "Choose another name.")
    spec = spec_from_form(kind, form)
    found = add_instrument(name[:80], kind, host, int(port), hit_of_spec(kind, spec), spec)
    with transaction() as session:
        record(session, actor, None, "add instrument", instrument=found)
    return found


def _allowed(host: str) -> bool:
    return host in os.environ.get("ZIPPLUMB_INSTRUMENT_HOSTS", "").split(",")


def add_instrument(name: str, kind: str, host: str, port: int, u_hit_mm: float, spec: dict | None = None) -> int:
    """An instrument by its address; one with the same name is moved to the new address."""
    with transaction() as session:
        found = session.scalar(select(Instrument).where(Instrument.name == name))
        if found is None:
            found = Instrument(name=name, kind=kind, host=host, port=port, u_hit_mm=u_hit_mm, spec=spec or {})
            session.add(found)
        found.host, found.port = host, port
        session.flush()
        return found.id


def add_calibrated_probe(
    instrument_id: int,
    name: str,
    offset_mm: list[float],
    diameter_mm: float,
    rms_mm: float,
    u_radius_mm: float,
    note: str,
    earlier: Sequence[tuple[int, float]] = (),
) -> int:
    """A probe with its calibration, put on an instrument; ``earlier`` ones by days ago and rms. Returns the newest's id."""
    with transaction() as session:
        probe = Probe(name=name, kind="ball", diameter_mm=diameter_mm, drawn_offset_mm=offset_mm)
        session.add(probe)
        session.flush()
        alike = {
            "probe_id": probe.id, "instrument_id": instrument_id, "offset_mm": offset_mm, "diameter_mm": diameter_mm,
            "u_radius_mm": u_radius_mm, "u_offset_mm": u_radius_mm, "note": note,
        }  # fmt: skip
        for days, rms in earlier:
            made = datetime.now(UTC) - timedelta(days=days)
            session.add(Calibration(**alike, rms_mm=rms, largest_mm=2.6 * rms, made_at=made, temperature_c=20.4))
        calibration = Calibration(**alike, rms_mm=rms_mm, largest_mm=2.6 * rms_mm, temperature_c=20.6)
        session.add(calibration)
        session.flush()
        stored(session, Instrument, instrument_id).calibration_id = calibration.id
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
        instrument = stored(session, Instrument, instrument_id)
        changed = any(getattr(instrument, k) != v for k, v in state.items())
        for name, value in state.items():
            setattr(instrument, name, value)
        instrument.seen_at = datetime.now(UTC)
        if changed:
            station = session.get(Station, instrument.station_id) if instrument.station_id else None
            lost = state.get("connected") is False
            tell(session, station.job_id if station else 0, "kit", instrument=instrument_id, tone="lost" if lost else None)


def instruments() -> list[Instrument]:
    with transaction() as session:
        return list(session.scalars(select(Instrument).order_by(Instrument.id)))
