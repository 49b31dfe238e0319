"""Instruments: adding them, bringing them to a job, and how the link sees them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.units import length_from_text, number_with_unit, whole_number
from ...store.database import stored, tell, transaction
from ...store.models import SILENT, Calibration, Instrument, Probe, Station
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from .instrument_kinds import FACTOR, INSTRUMENT_KINDS

_HOST = re.compile(r"[A-Za-z0-9]([A-Za-z0-9.:-]{0,250}[A-Za-z0-9])?")


def spec_from_form(kind: str, form: Mapping[str, str]) -> dict[str, float]:
    """The maker's specification from the form. Raises InputError naming the field."""
    found = {}
    for stated in INSTRUMENT_KINDS[kind].stated:
        words, unit = stated.words, stated.unit
        text = (form.get(stated.field) or "").strip() or str(stated.usual)
        read = length_from_text(text, "mm", words) if unit == "mm" else number_with_unit(text, unit, words) * FACTOR[unit]
        if not 0 < read < 1000 * FACTOR[unit]:
            raise InputError(
                f"“{text[:20]}” in {words.lower()} is no such number.", "Nothing was kept.", f"Type one above zero in {unit}."
            )
        found[stated.key] = read
    return found


def _typed(session: Session, form: Mapping[str, str], kind: str, but: int | None) -> dict[str, Any]:
    """Name, address and statement of an instrument as typed. Raises InputError naming the field."""
    name, host, port = (form.get(k, "").strip() for k in ("name", "host", "port"))
    if not name or len(name) > 80 or not name.isprintable():
        raise InputError("An instrument needs a name of at most 80 letters.", "Nothing was kept.", "Type its name.")
    if not _HOST.fullmatch(host):
        raise InputError(f"“{host[:40]}” is no address.", "Nothing was kept.", "Type a name or a number of a host.")
    number = whole_number(port, 65535)
    if not number:
        raise InputError(f"“{port[:10]}” is no port.", "Nothing was kept.", "Type a number from 1 to 65535.")
    same = session.scalar(select(Instrument.id).where(Instrument.name == name, Instrument.removed_at.is_(None)))
    if same is not None and same != but:
        raise InputError(f"There is an instrument “{name}” already.", "Nothing was kept.", "Choose another name.")
    spec = spec_from_form(kind, form)
    return {"name": name, "host": host, "port": number, "spec": spec, "u_hit_mm": INSTRUMENT_KINDS[kind].u_hit(spec)}


def add_from_form(actor: Actor, form: Mapping[str, str]) -> int:
    """A new instrument as typed: an administrator says which addresses instruments have. Returns its id."""
    kind = form.get("kind", "")
    if kind not in INSTRUMENT_KINDS:
        raise InputError("The kind of instrument was not chosen.", "Nothing was kept.", "Choose one of the kinds.")
    with transaction() as session:
        typed = _typed(session, form, kind, None)
        instrument = Instrument(kind=kind, **typed)
        session.add(instrument)
        session.flush()
        record(session, actor, None, "add instrument", instrument=instrument.id, **typed)
        tell(session, None, "kit")
        return instrument.id


def correct(actor: Actor, instrument_id: int, form: Mapping[str, str], seen: str | None = None) -> None:
    """Correct the entries of an instrument; earlier readings keep the specification they were taken with."""
    with transaction() as session:
        instrument = there(session, instrument_id)
        must_be_as_seen(edition_of(instrument), seen, instrument.name)
        typed = _typed(session, form, instrument.kind, instrument_id)
        before = {name: getattr(instrument, name) for name in typed}
        for name, value in typed.items():
            setattr(instrument, name, value)
        record(session, actor, None, "correct instrument", instrument=instrument_id, before=before, after=typed)
        tell(session, None, "kit")


def remove(actor: Actor, instrument_id: int, seen: str | None = None) -> None:
    """Out of the list; what it read stays."""
    with transaction() as session:
        instrument = there(session, instrument_id)
        must_be_as_seen(edition_of(instrument), seen, instrument.name)
        if instrument.trial_id is not None:
            raise InputError("A calibration or check is under way on it.", "Nothing was changed.", "Give it up first.")
        instrument.removed_at, instrument.station_id, instrument.link_up = datetime.now(UTC), None, False
        record(session, actor, None, "remove instrument", instrument=instrument_id, name=instrument.name)
        tell(session, None, "kit")


def there(session: Session, instrument_id: int) -> Instrument:
    """An instrument that was not removed, locked. Raises InputError."""
    instrument = stored(session, Instrument, instrument_id, lock=True)
    if instrument.removed_at is not None:
        raise InputError("That instrument was removed.", "Nothing was changed.", "Choose one from the list.")
    return instrument


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


def still_there(instrument_id: int) -> None:
    """It was heard of, and nothing is new: most often all that there is to say."""
    now = datetime.now(UTC)
    heard = update(Instrument).where(Instrument.id == instrument_id, Instrument.link_up, Instrument.seen_at > now - SILENT)
    with transaction() as session:
        if session.execute(heard.values(seen_at=now).returning(Instrument.id)).first() is not None:
            return
    seen(instrument_id)


def seen(instrument_id: int, **state) -> None:
    """Store the state of an instrument as seen by the link, and notify the pages of its job."""
    with transaction() as session:
        instrument = stored(session, Instrument, instrument_id)
        state = {"link_up" if name == "connected" else name: value for name, value in state.items()}
        was_silent = instrument.link_up and not instrument.connected
        changed = was_silent or any(getattr(instrument, k) != v for k, v in state.items())
        for name, value in state.items():
            setattr(instrument, name, value)
        instrument.seen_at = datetime.now(UTC)
        if changed:
            station = session.get(Station, instrument.station_id) if instrument.station_id else None
            lost = state.get("link_up") is False
            tell(session, station.job_id if station else 0, "kit", instrument=instrument_id, tone="lost" if lost else None)


def instruments() -> list[Instrument]:
    with transaction() as session:
        return list(session.scalars(select(Instrument).where(Instrument.removed_at.is_(None)).order_by(Instrument.id)))
