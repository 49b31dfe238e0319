"""Who, when, with what: what a reviewer needs to believe the numbers."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.sheet.bases.systems import SystemRecipe
from ...core.units import UNITS, degrees_text, marked
from ...store.database import stored
from ...store.models import Calibration, Instrument, Reading, Station, User
from ..align.alignment_text import at_20_words
from ..kit.probes import calibration_words
from ..state.results import JobResults

RULE_WORDS = {
    "proven": "ISO 14253-1: only what U proves",
    "simple": "Simple acceptance: by the value",
}


def gather_facts(session: Session, state: JobResults, by: int | None) -> list[tuple[str, str]]:
    """Who, when, with what: what a reviewer needs to believe the numbers."""
    job = state.job
    person = session.get(User, by) if by else None
    facts = [
        ("Job", job.name),
        *([("Piece", job.serial)] if job.serial else []),
        *((name, value) for name, value in job.identity),
        ("Part", f"{job.part.name} ({job.part.file_name}, file in {job.part.units})"),
        ("Lengths in", UNITS[job.units].spelled),
        ("Made by", person.name if person else "–"),
        ("Made at", datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC")),
    ]
    readings = session.execute(
        select(Reading.station_id, Reading.calibration_id, Reading.temperature_c, Reading.kept_at).where(
            Reading.job_id == job.id
        )
    ).all()
    if readings:
        first, last = min(r.kept_at for r in readings), max(r.kept_at for r in readings)
        facts.append(("Read", f"{first:%Y-%m-%d %H:%M} to {last:%H:%M} UTC"))
        known = [r.temperature_c for r in readings if r.temperature_c is not None]
        if known:
            between = marked(f"{min(known):.1f} to {max(known):.1f}")
            facts.append(("Temperature", f"{between} °C, lengths as read, not brought to 20 °C"))
    for station_id in sorted({r.station_id for r in readings}):
        station = stored(session, Station, station_id)
        instrument = stored(session, Instrument, station.instrument_id)
        facts.append(("Instrument", f"{instrument.name}, {instrument.serial}, {station.name}"))
    for calibration_id in sorted({r.calibration_id for r in readings}):
        facts.append(("Probe", calibration_words(stored(session, Calibration, calibration_id))))
    facts.append(("Coordinate system", alignment_words(state)))
    facts.append(("Decided by", RULE_WORDS[job.rule]))
    return facts


def alignment_words(state: JobResults) -> str:
    aligned, active = state.alignment, state.job.alignment_row_id
    if aligned is None or active is None:
        return "the instrument's own: the part is not aligned"
    name = state.row(active).recipe.name
    ledger = aligned.ledger
    words = f"{name}: {ledger.rank} freedoms held, {ledger.spare} holds spare"
    if told := at_20_words(cast(SystemRecipe, state.row(active).recipe)):
        words += f"; lengths {told}"
    if not aligned.squareness:
        return words
    worst = max(aligned.squareness, key=lambda s: abs(s.error_rad))
    return f"{words}; {worst.first} to {worst.second} out of square by {degrees_text(worst.error_rad)}"
