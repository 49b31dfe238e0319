"""Lines of light go to a scan: the one that is current, the last that is open, or a new one."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.sheet import kind_of
from ...core.sheet.kinds.scan import ScanRecipe
from ...store.database import stored
from ...store.models import Instrument, Job, Row
from ..actor import INSTRUMENT
from ..kit.probes import PROBE_KINDS
from ..plan.adding import add_rows, named
from ..state.recipes import whose_kind

LIGHT = whose_kind(lambda kind: kind.takes_light)


def scans(instrument: Instrument) -> bool:
    """The head that is on it sends lines of light."""
    return instrument.calibration is not None and not PROBE_KINDS[instrument.calibration.probe.kind].touches


def row_of(session: Session, job: Job) -> Row | None:
    """The scan that light goes to; None where one is to begin."""
    row = session.get(Row, job.current_row_id) if job.current_row_id else None
    if row is not None and row.removed_at is None and kind_of(row.recipe).takes_light:
        return row
    is_open = Row.job_id == job.id, Row.removed_at.is_(None), Row.finished_at.is_(None), LIGHT
    return session.scalar(select(Row).where(*is_open).order_by(Row.position.desc(), Row.id.desc()).limit(1))


def begin(session: Session, job: Job) -> Row:
    """That scan, current; a new one where there is none."""
    row = row_of(session, job)
    if row is None:
        raw = {"kind": ScanRecipe.key()}
        row = stored(session, Row, add_rows(session, INSTRUMENT, job.id, named(session, job.id, [raw]))[0])
        row.planned_by = None  # nobody planned it: there is no plan to take back
    job.current_row_id, job.touching = row.id, ""
    return row
