"""Reports: what goes in, and making them in the worker."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet.bases.systems import SystemRecipe
from ...core.units import UNITS, degrees_text, length_text
from ...exchange.csv_file import write_csv
from ...exchange.pdf_file import write_pdf
from ...exchange.pictures import is_picture
from ...exchange.table import RowText
from ...exchange.xlsx_file import write_xlsx
from ...store.database import stored, tell, transaction
from ...store.models import Calibration, Instrument, Picture, Reading, Report, Station, User
from ..actor import Actor, record
from ..align.alignment_text import at_20_words
from ..measure.maps import map_tables
from ..place.inspection import detail_tables
from ..plan.callouts import model_with_tolerances
from ..queue import defer, said_where_it_fails
from ..state.results import JobResults, load
from ..state.rows_text import row_texts

RULE_WORDS = {
    "proven": "ISO 14253-1: only what U proves",
    "simple": "Simple acceptance: by the value",
}
LARGEST_PICTURE = 8_000_000
NOT_MADE = "It could not be made. The job is untouched. Try again."
MOST_AT_ONCE = 4  # reports in the making, of one job


def keep_picture(actor: Actor, job_id: int, png: bytes, caption: str) -> int:
    """Keep a picture of the stage for the report. Returns its id."""
    actor.must_change()
    if len(png) > LARGEST_PICTURE or not is_picture(png):
        raise InputError("That is no picture of the stage.", "Nothing was kept.", "Press “Keep this view” again.")
    with transaction() as session:
        picture = Picture(job_id=job_id, png=png, caption=caption[:120])
        session.add(picture)
        session.flush()
        record(session, actor, job_id, "keep picture", picture=picture.id)
        return picture.id


def drop_picture(actor: Actor, job_id: int, picture_id: int) -> None:
    actor.must_change()
    with transaction() as session:
        picture = session.get(Picture, picture_id)
        if picture is not None and picture.job_id == job_id:
            session.delete(picture)
            record(session, actor, job_id, "drop picture", picture=picture_id)


def ask_report(actor: Actor, job_id: int, kind: str, row_ids: list[int]) -> int:
    """Note a report to be made of the chosen rows (none: all). Returns its id."""
    if kind not in FORMATS:
        raise InputError("A report is PDF, XLSX, CSV or STEP.", "Nothing was made.", "Choose one of these.")
    with transaction() as session:
        state = load(session, job_id)
        known = {r.id for r in state.rows}
        if not set(row_ids) <= known:
            raise InputError("A chosen row is not in this job any more.", "Nothing was made.", "Choose the rows again.")
        waiting = select(func.count()).select_from(Report).where(Report.job_id == job_id, Report.state == "making")
        if (session.scalar(waiting) or 0) >= MOST_AT_ONCE:
            raise InputError(f"{MOST_AT_ONCE} reports of this job are being made.", "No more was asked for.", "Wait for them.")
        report = Report(job_id=job_id, kind=kind, rows=sorted(row_ids), by=actor.id)
        session.add(report)
        session.flush()
        record(session, actor, job_id, "report", report=report.id, kind=kind)
        defer(session, "make_report", report_id=report.id)
        return report.id


def make_report(report_id: int) -> None:
    """Make an asked report (in the worker); what went wrong is said on the report itself."""
    with said_where_it_fails(f"report {report_id}", partial(_failed, report_id), NOT_MADE), transaction() as session:
        report = stored(session, Report, report_id)
        made = FORMATS[report.kind].made(session, report, load(session, report.job_id))
        report.data, report.state = made, "ready"
        tell(session, report.job_id, "report", report=report_id)


def _failed(report_id: int, words: str) -> None:
    with transaction() as session:
        report = stored(session, Report, report_id, lock=True)
        if report.state != "making":
            return
        report.state, report.message = "failed", words
        tell(session, report.job_id, "report", report=report_id)


def report_left(report_id: int) -> None:
    """No try to make it came to an end."""
    _failed(report_id, "Making it ended the worker each time. The job is untouched. Choose fewer rows.")


@dataclass(frozen=True)
class ReportFormat:
    """A report format: its media type, and the function that makes it from a job."""

    media_type: str
    made: Callable[[Session, Report, JobResults], bytes]


def _rows(report: Report, state: JobResults) -> list[RowText]:
    return [r for r in row_texts(state).values() if not report.rows or r.id in report.rows]


def _csv(session: Session, report: Report, state: JobResults) -> bytes:
    return write_csv(_rows(report, state))


def _xlsx(session: Session, report: Report, state: JobResults) -> bytes:
    facts, tables = gather_facts(session, state, report.by), detail_tables(session, state)
    return write_xlsx(_rows(report, state), state.job.units, facts, tables, map_tables(state, report.rows))


def _pdf(session: Session, report: Report, state: JobResults) -> bytes:
    facts, tables = gather_facts(session, state, report.by), detail_tables(session, state)
    pictures = session.scalars(select(Picture).where(Picture.job_id == report.job_id).order_by(Picture.id)).all()
    seen = [(p.png, p.caption) for p in pictures]
    return write_pdf(state.job.name, _rows(report, state), state.job.units, facts, seen, tables, map_tables(state, report.rows))


def _step(session: Session, report: Report, state: JobResults) -> bytes:
    return model_with_tolerances(session, state)


FORMATS = {
    "pdf": ReportFormat("application/pdf", _pdf),
    "xlsx": ReportFormat("application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", _xlsx),
    "csv": ReportFormat("text/csv; charset=utf-8", _csv),
    "step": ReportFormat("model/step", _step),
}


def gather_facts(session: Session, state: JobResults, by: int | None) -> list[tuple[str, str]]:
    """Who, when, with what: what a reviewer needs to believe the numbers."""
    job = state.job
    person = session.get(User, by) if by else None
    facts = [
        ("Job", job.name),
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
            facts.append(("Temperature", f"{min(known):.1f} to {max(known):.1f} °C, lengths as read, not brought to 20 °C"))
    for station_id in sorted({r.station_id for r in readings}):
        station = stored(session, Station, station_id)
        instrument = stored(session, Instrument, station.instrument_id)
        facts.append(("Instrument", f"{instrument.name}, {instrument.serial}, {station.name}"))
    for calibration_id in sorted({r.calibration_id for r in readings}):
        facts.append(("Probe", calibration_words(stored(session, Calibration, calibration_id))))
    facts.append(("Coordinate system", alignment_words(state)))
    facts.append(("Decided by", RULE_WORDS[job.rule]))
    return facts


def calibration_words(cal: Calibration) -> str:
    size = f", {length_text(cal.diameter_mm, 'mm')} mm ({length_text(cal.diameter_mm, 'in')} in)" if cal.diameter_mm else ""
    if cal.method == "stated":
        return f"{cal.probe.name}{size}, as its maker states"
    return f"{cal.probe.name}{size}, calibrated {cal.made_at:%Y-%m-%d %H:%M}, rms {length_text(cal.rms_mm, 'mm')} mm"


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
