"""Trust: what happened to an instrument, when it was last found good, and what is due."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Row, bindparam, select
from sqlalchemy.orm import Session

from ...core.trust import HAPPENED, Happening, LastFoundGood, due
from ...store.database import stored, transaction
from ...store.models import Calibration, Instrument, InstrumentEvent, Job, Trial
from .probes import tell_all
from .trial_kinds import TRIALS

CHECKS = 6  # shown of a job
# asked with every load of a job, and so of columns alone: what was found in a trial is long
TRIALS_OF = (
    select(
        Trial.id, Trial.instrument_id, Trial.job_id, Trial.kind, Trial.state, Trial.calibration_id, Trial.ended_at,
        Trial.temperature_c,
    )
    .where(Trial.instrument_id.in_(bindparam("instruments", expanding=True)))
    .order_by(Trial.id.desc())
)  # fmt: skip
EVENTS_OF = select(InstrumentEvent.instrument_id, InstrumentEvent.what, InstrumentEvent.at).where(
    InstrumentEvent.instrument_id.in_(bindparam("instruments", expanding=True))
)
BEGAN = select(Job.id, Job.created_at).where(Job.id.in_(bindparam("jobs", expanding=True)))


@dataclass(frozen=True)
class Trust:
    """``due``: why a check is due, in sentences; ``good``: when and by what it was last found good; ``checks``: this job's."""

    due: tuple[str, ...]
    good: LastFoundGood | None
    checks: tuple[Row, ...]

    @property
    def word(self) -> str:
        return "due" if self.due else "trusted"


def happened(instrument_id: int, what: str, words: str = "") -> None:
    """Record an event that shook an instrument, and notify all pages."""
    with transaction() as session:
        instrument = stored(session, Instrument, instrument_id, lock=True)
        session.add(InstrumentEvent(instrument_id=instrument_id, what=what, words=words or HAPPENED.get(what, what)))
        tell_all(session, instrument, event=what, tone="asks")


def trust_in(session: Session, instrument: Instrument, job_id: int | None = None) -> Trust:
    """Whether the kit may be believed now, for a job if one is given."""
    return trusts(session, [(instrument, job_id)])[0]


def why_due(session: Session, instrument: Instrument | None, job_id: int) -> str:
    """Why the instrument of a job is to be checked, in sentences; nothing where it need not be."""
    return " ".join(trust_in(session, instrument, job_id).due) if instrument is not None else ""


def trusts(session: Session, kit: Sequence[tuple[Instrument, int | None]]) -> list[Trust]:
    """Whether instruments may be believed, each at its job; the number of queries does not grow with theirs."""
    ids = [instrument.id for instrument, _ in kit]
    jobs = {job_id for _, job_id in kit if job_id is not None}
    session.flush()
    connection = session.connection()
    trials = connection.execute(TRIALS_OF, {"instruments": ids}).all()
    events = connection.execute(EVENTS_OF, {"instruments": ids}).all()
    began = {job: at.timestamp() for job, at in connection.execute(BEGAN, {"jobs": list(jobs)})}
    found = []
    for instrument, job_id in kit:
        last = _good(instrument, [t for t in trials if t.instrument_id == instrument.id])
        happenings = [Happening(e.what, e.at.timestamp()) for e in events if e.instrument_id == instrument.id]
        reasons = due(time.time(), last, happenings, instrument.temperature_c, began.get(job_id) if job_id else None)
        cal: Calibration | None = instrument.calibration
        if cal is not None and cal.doubt:
            reasons = (cal.doubt,)
        here = [t for t in trials if t.instrument_id == instrument.id and t.job_id == job_id]
        found.append(Trust(reasons, last, tuple(here[:CHECKS])))
    return found


def _good(instrument: Instrument, trials: Sequence[Row]) -> LastFoundGood | None:
    """The newest of: its probe's calibration, a check that passed since."""
    cal = instrument.calibration
    found: list[LastFoundGood] = []
    if cal is not None and cal.method not in ("drawn", "stated") and not cal.doubt:
        found.append(LastFoundGood(cal.made_at.timestamp(), f"{cal.method} calibration", cal.temperature_c))
    for trial in trials:
        if trial.state != "pass" or trial.calibration_id != instrument.calibration_id:
            continue
        made = TRIALS[trial.kind].makes or (cal is not None and cal.doubt)
        if not made and trial.ended_at is not None:
            found.append(LastFoundGood(trial.ended_at.timestamp(), TRIALS[trial.kind].title.lower(), trial.temperature_c))
    return max(found, key=lambda g: g.at_s, default=None)
