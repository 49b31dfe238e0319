"""The buttons of an instrument: each press goes to the calibration or check that is under way, else to the current row of
the job at which the instrument stands. Where it goes is asked once, in the transaction that keeps it, and a press that is sent
again is carried out once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from sqlalchemy import bindparam, select
from sqlalchemy.orm import Session, contains_eager

from ...core.errors import InputError
from ...devices.hits import HitBatch
from ...store.database import stored, transaction
from ...store.models import Calibration, Instrument, Job, Probe, Station
from ..kit.trials import AtTrial
from ..measure.measuring import AtRow
from ..state.readings import first_time

# asked at every press, and so in one question: who pressed, with what, and at which job
PRESSED = (
    select(Instrument, Station.job_id)
    .outerjoin(Station, Station.id == Instrument.station_id)
    .outerjoin(Calibration, Calibration.id == Instrument.calibration_id)
    .outerjoin(Probe, Probe.id == Calibration.probe_id)
    .options(contains_eager(Instrument.calibration).contains_eager(Calibration.probe))
    .where(Instrument.id == bindparam("instrument"))
)


class Taker(Protocol):
    """The target of presses, in an open transaction. Each method returns the tone."""

    def keep(self, batch: HitBatch, pressed: bool) -> str:
        """``pressed``: by a press, not by themselves while the button is held."""
        ...

    def must_have_kept(self, batch: HitBatch) -> None:
        """Raises InputError where hits that are sent again were kept for something else."""
        ...

    def finish(self, batch: HitBatch) -> str: ...

    def undo(self, sweep: bool) -> str: ...

    def step(self, by: int) -> str: ...

    def next_way(self) -> str: ...

    def just_touch(self) -> str: ...


def keep(instrument_id: int, batch: HitBatch, number: int | None) -> str:
    """Keep hits. ``number``: of the press; None for those that follow by themselves while the button is held."""
    with transaction() as session:
        first = first_time(session, instrument_id, batch.session, number)
        taker = _taker(session, instrument_id)
        if first:
            return taker.keep(batch, number is not None)
        taker.must_have_kept(batch)
    return "taken"


def finish(instrument_id: int, batch: HitBatch, number: int) -> str:
    """Finish, with the pull-off that the press came with."""
    return _once(instrument_id, batch.session, number, lambda taker: taker.finish(batch), "finished")


def undo(instrument_id: int, sweep: bool, device_session: str, number: int) -> str:
    return _once(instrument_id, device_session, number, lambda taker: taker.undo(sweep), "undone")


def step(instrument_id: int, by: int, device_session: str, number: int) -> str:
    return _once(instrument_id, device_session, number, lambda taker: taker.step(by), "moved")


def next_way(instrument_id: int, device_session: str, number: int) -> str:
    return _once(instrument_id, device_session, number, lambda taker: taker.next_way(), "moved")


def just_touch(instrument_id: int, device_session: str, number: int) -> str:
    return _once(instrument_id, device_session, number, lambda taker: taker.just_touch(), "moved")


def _once(instrument_id: int, device_session: str, number: int, act: Callable[[Taker], str], done: str) -> str:
    """Carry a press out, unless it was. ``done``: the tone of one that was."""
    with transaction() as session:
        if not first_time(session, instrument_id, device_session, number):
            return done
        return act(_taker(session, instrument_id))


def _taker(session: Session, instrument_id: int) -> Taker:
    """The target of a press. Raises InputError if the instrument stands at no job and no trial is in progress."""
    instrument, job_id = session.execute(PRESSED, {"instrument": instrument_id}).first() or (None, None)
    if instrument is not None and instrument.trial_id is not None:
        stored(session, Instrument, instrument_id, lock=True)
        session.refresh(instrument, ["trial_id"])  # it may have ended this very moment
        if instrument.trial_id is not None:
            return AtTrial(session, instrument)
    if instrument is None or job_id is None:
        raise InputError("This instrument stands at no job.", "The press was not kept.", "Bring it to a job on the Kit page.")
    # locked, so that acts on the job follow one another
    return AtRow(session, instrument, stored(session, Job, job_id, lock=True))
