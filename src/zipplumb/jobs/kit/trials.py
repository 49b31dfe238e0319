"""Calibrations and checks: beginning one, what the instrument's buttons do meanwhile, and its end."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import readings as core_readings
from ...core.calibration import KnownProbe
from ...core.errors import InputError
from ...core.probing import Taking
from ...core.sheet.graph import fault_words
from ...core.trials import Outcome
from ...core.units import length_from_text, whole_number
from ...devices.hits import HitBatch
from ...store.database import stored, transaction
from ...store.models import Calibration, Instrument, Probe, Reading, Trial
from ..actor import INSTRUMENT, Actor, record
from ..state.readings import Batch, History, marks_of, must_be_kept, store, take_back
from .instrument_kinds import INSTRUMENT_KINDS
from .probes import BALLS, PROBE_KINDS, doubt, existing, newest, put_on_in, tell_all
from .trial_kinds import TRIALS, TrialInputs

# ---- beginning and ending ----------------------------------------------------------------------


def begin(actor: Actor, kind: str, instrument_id: int, form: Mapping[str, str], job_id: int | None = None) -> int:
    """Begin one. Raises InputError with what is missing; an implausible sphere is questioned. Returns its id."""
    actor.must_change()
    if kind not in TRIALS:
        raise InputError("That is no calibration or check.", "Nothing was begun.", "Choose one from the list.")
    with transaction() as session:
        instrument = stored(session, Instrument, instrument_id, lock=True)
        if instrument.removed_at is not None or instrument.kind not in TRIALS[kind].on:
            raise InputError("That instrument takes no such check.", "Nothing was begun.", "Choose another.")
        if instrument.trial_id is not None:
            running = stored(session, Trial, instrument.trial_id)
            raise InputError(
                f"A {TRIALS[running.kind].title.lower()} is under way on it.",
                "Nothing was begun.",
                "Go on with it, or give it up, from the instrument's page.",
            )
        probe = _probe(session, instrument, kind, form)
        if probe is not None and (instrument.calibration is None or instrument.calibration.probe_id != probe.id):
            put_on_in(session, instrument, probe)
            session.flush()
            session.refresh(instrument)
        if TRIALS[kind].needs_probe and instrument.calibration is None:
            raise InputError("No probe is on it.", "Nothing was begun.", "Put one on first.")
        trial = Trial(
            kind=kind, instrument_id=instrument_id, probe_id=probe.id if probe else None, job_id=job_id, by=actor.id,
            calibration_id=instrument.calibration_id, settings=_settings(session, kind, form, job_id, instrument),
            temperature_c=instrument.temperature_c,
        )  # fmt: skip
        session.add(trial)
        session.flush()
        instrument.trial_id = trial.id
        record(session, actor, job_id, "begin trial", trial=trial.id, kind=kind)
        tell_all(session, instrument, trial=trial.id)
        return trial.id


def _probe(session: Session, instrument: Instrument, kind: str, form: Mapping[str, str]) -> Probe | None:
    if not INSTRUMENT_KINDS[instrument.kind].holds_probes:
        return None
    wanted = whole_number(form.get("probe", ""))
    if wanted is not None:
        probe = existing(session, wanted)
    elif instrument.calibration is not None:
        probe = instrument.calibration.probe
    else:
        raise InputError("The probe was not chosen.", "Nothing was begun.", "Choose the probe that is on the arm.")
    if TRIALS[kind].scanner == PROBE_KINDS[probe.kind].touches:
        raise InputError(
            f"{probe.name} is a {probe.kind}.", "Nothing was begun.", "Choose another probe, or another calibration."
        )
    return probe


def _settings(
    session: Session, kind: str, form: Mapping[str, str], job_id: int | None, instrument: Instrument
) -> dict[str, Any]:
    told = TRIALS[kind]
    settings = {**told.settings(form), **told.from_job(session, instrument), "limit_mm": _limit(form, instrument, kind)}
    if form.get("again") == "1" and (first := _first_of(session, kind, job_id, instrument)) is not None:
        before = first.result["places"]
        settings |= {"nests": len(before), "before": before}
    return settings


def _first_of(session: Session, kind: str, job_id: int | None, instrument: Instrument) -> Trial | None:
    """The one with which a job began, against which it is taken again."""
    query = select(Trial).where(
        Trial.kind == kind, Trial.instrument_id == instrument.id, Trial.job_id == job_id, Trial.state == "pass"
    )
    return next((t for t in session.scalars(query.order_by(Trial.id)) if t.result.get("first")), None)


def _limit(form: Mapping[str, str], instrument: Instrument, kind: str) -> float:
    """The limit: typed, else specified by the maker, else common practice."""
    if form.get("limit"):
        limit = length_from_text(form["limit"], "mm", "the limit")
        if not 0 < limit < 100:
            raise InputError("The limit is not above zero.", "Nothing was begun.", "Type it in mm, or leave it empty.")
        return limit
    usual = TRIALS[kind].limit_mm
    if usual is not None:
        return usual
    return float(instrument.spec.get(f"{kind}_limit_mm") or INSTRUMENT_KINDS[instrument.kind].usual_limit_mm)


def end(actor: Actor, trial_id: int) -> None:
    """Give it up: what was read is kept with it, and nothing comes of it."""
    actor.must_change()
    with transaction() as session:
        trial, instrument = _running(session, trial_id)
        trial.found = worked_out(session, trial).as_data()
        _close(session, trial, instrument, "given up", "It was given up.", {})
        record(session, actor, trial.job_id, "give trial up", trial=trial_id)


def _running(session: Session, trial_id: int) -> tuple[Trial, Instrument]:
    trial = session.get(Trial, trial_id)
    if trial is None or trial.state != "running":
        raise InputError("That calibration or check is not under way.", "Nothing was changed.", "Begin a new one.")
    return trial, stored(session, Instrument, trial.instrument_id, lock=True)


def _close(session: Session, trial: Trial, instrument: Instrument, state: str, words: str, result: dict, **more) -> None:
    trial.state, trial.words, trial.result, trial.ended_at = state, words, result, datetime.now(UTC)
    instrument.trial_id = None
    tell_all(session, instrument, trial=trial.id, **more)


# ---- what the instrument's buttons do meanwhile -------------------------------------------------


def taking_of(kind: str) -> Taking:
    """The way of taking while the button is held, in a trial of a kind."""
    return TRIALS[kind].taking()


@dataclass(frozen=True)
class AtTrial:
    """An instrument whose presses go to the calibration or check that is under way. The instrument is locked."""

    session: Session
    instrument: Instrument

    @property
    def _trial(self) -> Trial:
        return stored(self.session, Trial, self.instrument.trial_id)

    def keep(self, batch: HitBatch, pressed: bool) -> str:
        trial = self._trial
        store(self.session, self.instrument, batch, trial_id=trial.id)
        trial.words = ""  # what was lacking at the last finish may be there now
        tell_all(self.session, self.instrument, trial=trial.id, tone="taken" if pressed else None)
        return "taken"

    def must_have_kept(self, batch: HitBatch) -> None:
        must_be_kept(self.session, self.instrument, batch, trial_id=self.instrument.trial_id)

    def finish(self, batch: HitBatch) -> str:
        return _finish(self.session, INSTRUMENT, self._trial, self.instrument)

    def undo(self, sweep: bool) -> str:
        return _undo(self.session, INSTRUMENT, self._trial, self.instrument, sweep)

    def step(self, by: int) -> str:
        return "none"

    def next_way(self) -> str:
        return "none"

    def just_touch(self) -> str:
        return "none"


def undo(actor: Actor, trial_id: int) -> None:
    """Take back the last press from the page."""
    actor.must_change()
    with transaction() as session:
        _undo(session, actor, *_running(session, trial_id), False)


def _undo(session: Session, actor: Actor, trial: Trial, instrument: Instrument, sweep: bool) -> str:
    """Take back the last press, or for a pivot, or when asked, its whole sweep."""
    whole = sweep or TRIALS[trial.kind].whole_press
    taken_back = take_back(session, Reading.trial_id == trial.id, whole, actor.id)
    if not taken_back:
        raise InputError("There is nothing to take back.", "Nothing was changed.", "Take something first.")
    record(session, actor, trial.job_id, "undo in trial", trial=trial.id, **taken_back)
    tell_all(session, instrument, trial=trial.id, tone="undone")
    return "undone"


def finish(actor: Actor, trial_id: int) -> str:
    """Finish from the page. Returns the tone."""
    actor.must_change()
    with transaction() as session:
        return _finish(session, actor, *_running(session, trial_id))


def _finish(session: Session, actor: Actor, trial: Trial, instrument: Instrument) -> str:
    """Keep the result where there is one, or say what is still missing."""
    outcome = worked_out(session, trial)
    if outcome.verdict in ("running", "not enough"):
        trial.words = "It is not complete yet."
        tell_all(session, instrument, trial=trial.id, tone="asks")
        return "asks"
    passed = outcome.verdict == "pass"
    result = dict(outcome.result)
    if "before" in trial.settings and not trial.settings["before"]:
        result["first"] = True
    if TRIALS[trial.kind].makes and passed:
        cal = _calibration(session, trial, instrument, result)
        trial.calibration_id = instrument.calibration_id = cal.id
    trial.found = outcome.as_data()
    _close(session, trial, instrument, outcome.verdict, outcome.why, result, tone="in" if passed else "out")
    if outcome.verdict == "fail" and not TRIALS[trial.kind].makes:
        _shaken(session, trial, instrument, outcome)
    record(session, actor, trial.job_id, "finish trial", trial=trial.id, verdict=outcome.verdict)
    return "in" if passed else "out"


def _calibration(session: Session, trial: Trial, instrument: Instrument, result: dict) -> Calibration:
    probe = stored(session, Probe, trial.probe_id)
    effective = "u_radius_mm" in result  # the hits told the tip's size too
    cal = Calibration(
        probe_id=probe.id, instrument_id=instrument.id, method=trial.kind, offset_mm=result["offset_mm"],
        diameter_mm=result["diameter_mm"] if effective else probe.diameter_mm,
        u_radius_mm=max(result["u_radius_mm"], 0.001) if effective else 0.002, u_offset_mm=result["u_offset_mm"],
        rms_mm=result["rms_mm"], largest_mm=result["largest_mm"], limit_mm=result["limit_mm"], detail=result,
        temperature_c=trial.temperature_c,
    )  # fmt: skip
    session.add(cal)
    session.flush()
    return cal


def _shaken(session: Session, trial: Trial, instrument: Instrument, outcome: Outcome) -> None:
    """A check that failed puts what was measured since the kit was last found good in doubt."""
    words = f"{TRIALS[trial.kind].title} failed on {trial.ended_at:%d %B at %H:%M}: {outcome.why}"
    if instrument.calibration_id is not None:
        uses = doubt(session, instrument.calibration_id, words)
        trial.result = {**trial.result, "touched": [{"job": u.job, "job_id": u.job_id, "rows": list(u.rows)} for u in uses]}


# ---- working it out -----------------------------------------------------------------------------


def read_by(session: Session, trial_id: int) -> core_readings.HitSet:
    """Everything that counts of a trial, in order."""
    mine = Reading.trial_id == trial_id
    batches = session.scalars(select(Reading).where(mine).order_by(Reading.first_n, Reading.id)).all()
    found = History(Batch.of(b, with_light=True) for b in batches).reading(marks_of(session, mine))
    return found.counted if found is not None else core_readings.HitSet.of_poses(np.empty((0, 7)))


def outcome_of(session: Session, trial: Trial) -> Outcome:
    """The outcome of a trial; of a finished one, as it was stored."""
    return Outcome.from_data(trial.found) if trial.found else worked_out(session, trial)


def worked_out(session: Session, trial: Trial) -> Outcome:
    """The outcome of a trial from its raw readings and settings. An error in it becomes a sentence and blocks nothing."""
    instrument = stored(session, Instrument, trial.instrument_id)
    cal = session.get(Calibration, trial.calibration_id) if trial.calibration_id else None
    probe = session.get(Probe, trial.probe_id) if trial.probe_id else None
    given = TrialInputs(
        reading=read_by(session, trial.id),
        settings=trial.settings,
        offset_mm=np.array(cal.offset_mm) if cal else np.zeros(3),
        tip_mm=cal.diameter_mm if cal else 0.0,
        drawn_mm=probe.diameter_mm if probe else 0.0,
        others=_others(session, probe, instrument) if probe else (),
        rolls=instrument.axes != 6,
    )
    try:
        return TRIALS[trial.kind].outcome(given)
    except Exception as error:
        ask = "Take back the last, or give it up and begin again."
        drawing = {"kind": "bars", "bars": [], "limit_mm": given.limit_mm}
        return Outcome("not enough", ask, fault_words(error), taken=len(given.reading), drawing=drawing)


def _others(session: Session, probe: Probe, instrument: Instrument) -> list[KnownProbe]:
    query = select(Probe).where(Probe.kind.in_(BALLS), Probe.id != probe.id, Probe.removed_at.is_(None))
    found = []
    for other in session.scalars(query):
        cal = newest(session, other.id, instrument.id)
        x, y, z = cal.offset_mm if cal else other.drawn_offset_mm
        found.append(KnownProbe(other.name, other.diameter_mm, (x, y, z)))
    return found
