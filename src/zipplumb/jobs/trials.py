"""Calibrations and checks: beginning one, what the instrument's buttons do meanwhile, and its end."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core import trials as core
from ..core.calibration import LIMIT_MM, Known, question_about
from ..core.errors import InputError
from ..core.frames import Motion
from ..core.probing import ByDistance, ByTime, Taking
from ..core.trials import Outcome, Taken
from ..core.units import length_from_text
from ..devices.hits import HitBatch
from ..store.database import transaction
from ..store.models import Calibration, Instrument, Probe, Trial, TrialReading
from .actor import INSTRUMENT, Actor, record
from .measure import first_time
from .probes import doubt, existing, newest, put_on_in, tell_all, unit_of
from .trial_kinds import KINDS

POSE_S = 0.05  # between poses of a pivot
WANTED_HITS, WANTED_STRIPES = 60, 30


# ---- beginning and ending ----------------------------------------------------------------------


def begin(actor: Actor, kind: str, instrument_id: int, form: Mapping[str, str], job_id: int | None = None) -> int:
    """Begin one. Raises InputError with what is missing; an implausible sphere is questioned. Returns its id."""
    actor.must_change()
    if kind not in KINDS:
        raise InputError("That is no calibration or check.", "Nothing was begun.", "Choose one from the list.")
    with transaction() as session:
        instrument = session.get(Instrument, instrument_id, with_for_update=True)
        if instrument is None or instrument.kind not in KINDS[kind].on:
            raise InputError("That instrument takes no such check.", "Nothing was begun.", "Choose another.")
        if instrument.trial_id is not None:
            running = session.get(Trial, instrument.trial_id)
            raise InputError(
                f"A {KINDS[running.kind].title.lower()} is under way on it.",
                "Nothing was begun.",
                "Go on with it, or give it up, from the instrument's page.",
            )
        probe = _probe(session, instrument, kind, form)
        if probe is not None and (instrument.calibration is None or instrument.calibration.probe_id != probe.id):
            put_on_in(session, instrument, probe)
            session.flush()
            session.refresh(instrument)
        if kind not in ("pivot", "sphere", "scanner", "faces", "drift") and instrument.calibration is None:
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
    if instrument.kind != "arm":
        return None
    wanted = form.get("probe", "")
    if wanted.isdigit():
        probe = existing(session, int(wanted))
    elif instrument.calibration is not None:
        probe = instrument.calibration.probe
    else:
        raise InputError("The probe was not chosen.", "Nothing was begun.", "Choose the probe that is on the arm.")
    if (kind == "scanner") != (probe.kind == "scanner"):
        raise InputError(
            f"{probe.name} is a {probe.kind}.", "Nothing was begun.", "Choose another probe, or another calibration."
        )
    return probe


def _settings(
    session: Session, kind: str, form: Mapping[str, str], job_id: int | None, instrument: Instrument
) -> dict[str, Any]:
    limit = _limit(form, instrument, kind)
    if kind == "pivot":
        seat = form.get("seat", "")
        if seat not in core.SEATS:
            raise InputError(
                "The seat was not chosen.", "Nothing was begun.", "Choose a cone, or a bore smaller than the ball."
            )
        return {"seat": seat, "limit_mm": limit}
    if kind in ("sphere", "scanner", "sphere_check"):
        certified = length_from_text(form.get("certified", ""), unit_of(form, "certified"), "the certified diameter")
        asked = question_about("sphere", certified)
        if asked is not None and form.get("sure") != "1":
            raise InputError(asked.words, "Nothing was begun.", "Type the number on the sphere with its unit.")
        return {"certified_mm": certified, "limit_mm": limit}
    if kind == "length":
        return {
            "length_mm": length_from_text(form.get("length", ""), unit_of(form, "length"), "the certified length"),
            "limit_mm": limit,
        }
    if kind == "drift":
        nests = form.get("nests", "3")
        if not nests.isdigit() or not 1 <= int(nests) <= 30:
            raise InputError("The number of nests is not one from 1 to 30.", "Nothing was begun.", "Type how many there are.")
        earlier = session.scalars(
            select(Trial).where(Trial.kind == "drift", Trial.instrument_id == instrument.id, Trial.job_id == job_id,
                                Trial.state == "pass").order_by(Trial.id)
        ).all()  # fmt: skip
        start = next((t for t in earlier if t.result.get("first")), None) if form.get("again") == "1" else None
        before = start.result["places"] if start else None
        return {"nests": len(before) if before else int(nests), "before": before, "limit_mm": limit}
    return {"limit_mm": limit}


LIMITS = {"pivot": LIMIT_MM, "sphere": LIMIT_MM, "scanner": 2 * LIMIT_MM}


def _limit(form: Mapping[str, str], instrument: Instrument, kind: str) -> float:
    """What was typed, or what the maker states, or common practice."""
    if form.get("limit"):
        return length_from_text(form["limit"], "mm", "the limit")
    if kind in LIMITS:
        return LIMITS[kind]
    return float(instrument.spec.get(f"{kind}_limit_mm") or (0.05 if instrument.kind == "arm" else 0.06))


def end(actor: Actor, trial_id: int) -> None:
    """Give it up: what was read is kept with it, and nothing comes of it."""
    actor.must_change()
    with transaction() as session:
        trial, instrument = _running(session, trial_id)
        _close(session, trial, instrument, "given up", "It was given up.", {})
        record(session, actor, trial.job_id, "give trial up", trial=trial_id)


def _running(session: Session, trial_id: int) -> tuple[Trial, Instrument]:
    trial = session.get(Trial, trial_id)
    if trial is None or trial.state != "running":
        raise InputError("That calibration or check is not under way.", "Nothing was changed.", "Begin a new one.")
    return trial, session.get(Instrument, trial.instrument_id, with_for_update=True)


def _close(session: Session, trial: Trial, instrument: Instrument, state: str, words: str, result: dict, **more) -> None:
    trial.state, trial.words, trial.result, trial.ended_at = state, words, result, datetime.now(UTC)
    instrument.trial_id = None
    tell_all(session, instrument, trial=trial.id, **more)


# ---- what the instrument's buttons do meanwhile -------------------------------------------------


def taking_of(trial: Trial) -> Taking:
    """The way of taking while the button is held."""
    return ByTime(POSE_S) if trial.kind == "pivot" else ByDistance(4.0)


def keep(instrument_id: int, trial_id: int, batch: HitBatch, number: int | None) -> str:
    """Keep what was read for the trial under way. Returns the tone."""
    with transaction() as session:
        if not first_time(session, batch.session, number):
            return "taken"
        _, instrument = _running(session, trial_id)
        session.execute(
            insert(TrialReading)
            .values(
                trial_id=trial_id, kind=batch.kind, session=batch.session, first_n=batch.ns[0], sweep=batch.sweep,
                times=list(batch.times), poses=list(batch.poses), faces=list(batch.faces),
                lines=[v for line in batch.lines for v in line], counts=[len(line) // 2 for line in batch.lines],
            )
            .on_conflict_do_nothing(constraint="trial_readings_once")
        )  # fmt: skip
        tell_all(session, instrument, trial=trial_id, tone="taken" if number is not None else None)
    return "taken"


def undo(instrument_id: int, trial_id: int, sweep: bool, device_session: str, number: int | None) -> str:
    """Take back the last press, or for a pivot, or when asked, its whole sweep."""
    with transaction() as session:
        if not first_time(session, device_session, number):
            return "undone"
        trial, instrument = _running(session, trial_id)
        query = select(TrialReading).where(TrialReading.trial_id == trial_id, TrialReading.undone_at.is_(None))
        standing = session.scalars(query.order_by(TrialReading.id.desc())).all()
        if not standing:
            raise InputError("There is nothing to take back.", "Nothing was changed.", "Take something first.")
        for one in standing if sweep or trial.kind in ("pivot", "scanner") else standing[:1]:
            if (one.session, one.sweep) == (standing[0].session, standing[0].sweep):
                one.undone_at = datetime.now(UTC)
        tell_all(session, instrument, trial=trial_id, tone="undone")
    return "undone"


def finish(actor: Actor, trial_id: int, device_session: str = "", number: int | None = None) -> str:
    """Finish: keep the result where there is one, or say what is still missing. Returns the tone."""
    actor.must_change()
    with transaction() as session:
        if not first_time(session, device_session, number):
            return "finished"
        trial, instrument = _running(session, trial_id)
        outcome = worked_out(session, trial)
        if outcome.verdict in ("running", "not enough"):
            trial.words = "Refused, as it is not complete yet."
            tell_all(session, instrument, trial=trial_id, tone="asks")
            return "asks"
        passed = outcome.verdict == "pass"
        result = dict(outcome.result)
        if trial.kind == "drift" and not trial.settings.get("before"):
            result["first"] = True
        if KINDS[trial.kind].makes and passed:
            cal = _calibration(session, trial, instrument, result)
            trial.calibration_id = instrument.calibration_id = cal.id
        _close(session, trial, instrument, outcome.verdict, outcome.why, result, tone="in" if passed else "out")
        if outcome.verdict == "fail" and not KINDS[trial.kind].makes:
            _shaken(session, trial, instrument, outcome)
        record(session, actor, trial.job_id, "finish trial", trial=trial_id, verdict=outcome.verdict)
        return "in" if passed else "out"


def finish_from_device(trial_id: int, device_session: str, number: int) -> str:
    return finish(INSTRUMENT, trial_id, device_session, number)


def _calibration(session: Session, trial: Trial, instrument: Instrument, result: dict) -> Calibration:
    probe = session.get(Probe, trial.probe_id)
    effective = trial.kind == "sphere"
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
    words = f"{KINDS[trial.kind].title} failed on {trial.ended_at:%d %B at %H:%M}: {outcome.why}"
    if instrument.calibration_id is not None:
        uses = doubt(session, instrument.calibration_id, words)
        trial.result = {**trial.result, "touched": [{"job": u.job, "job_id": u.job_id, "rows": list(u.rows)} for u in uses]}


# ---- working it out -----------------------------------------------------------------------------


def taken_by(session: Session, trial_id: int) -> Taken:
    """Everything that counts of a trial, in order."""
    query = select(TrialReading).where(
        TrialReading.trial_id == trial_id, TrialReading.undone_at.is_(None), TrialReading.kind != "pull_off"
    )
    batches = session.scalars(query.order_by(TrialReading.first_n, TrialReading.id)).all()
    if not batches:
        return Taken.nothing()
    numbers = {key: k + 1 for k, key in enumerate(dict.fromkeys((b.session, b.sweep) for b in batches))}
    sizes = [len(b.times) for b in batches]
    lines: list[np.ndarray] = []
    for batch in batches:
        points = np.reshape(batch.lines, (-1, 2))
        empty = [np.empty((0, 2))] * len(batch.times)
        lines += np.split(points, np.cumsum(batch.counts)[:-1]) if batch.counts else empty
    return Taken(
        np.concatenate([np.reshape(b.poses, (-1, 7)) for b in batches]),
        np.repeat([numbers[b.session, b.sweep] for b in batches], sizes),
        np.concatenate([np.array(b.faces or [1] * len(b.times)) for b in batches]),
        tuple(lines),
    )


def worked_out(session: Session, trial: Trial) -> Outcome:
    """What a trial comes to, from its raw readings and its settings."""
    taken, settings = taken_by(session, trial.id), trial.settings
    instrument = session.get(Instrument, trial.instrument_id)
    limit = settings["limit_mm"]
    cal = session.get(Calibration, trial.calibration_id) if trial.calibration_id else None
    offset = np.array(cal.offset_mm) if cal else np.zeros(3)
    probe = session.get(Probe, trial.probe_id) if trial.probe_id else None
    if trial.kind == "pivot":
        return core.pivot_outcome(taken, settings["seat"], instrument.axes != 6, limit)
    if trial.kind == "sphere":
        return core.sphere_outcome(
            taken, settings["certified_mm"], probe.diameter_mm, offset, WANTED_HITS, _others(session, probe, instrument), limit
        )
    if trial.kind == "scanner":
        start = Motion(np.eye(3), offset)
        return core.scanner_outcome(taken, settings["certified_mm"], start, WANTED_STRIPES, limit)
    if trial.kind == "sphere_check":
        others = _others(session, probe, instrument)
        return core.sphere_check_outcome(taken, offset, cal.diameter_mm, settings["certified_mm"], limit, others)
    if trial.kind == "length":
        return core.length_outcome(taken, offset, settings["length_mm"], limit)
    if trial.kind == "point":
        return core.single_point_outcome(taken, offset, limit)
    if trial.kind == "faces":
        return core.faces_outcome(taken, limit)
    return core.drift_outcome(taken, settings["nests"], limit, settings["before"])


def _others(session: Session, probe: Probe, instrument: Instrument) -> list[Known]:
    query = select(Probe).where(Probe.kind == "ball", Probe.id != probe.id, Probe.removed_at.is_(None))
    found = []
    for other in session.scalars(query):
        cal = newest(session, other.id, instrument.id)
        x, y, z = cal.offset_mm if cal else other.drawn_offset_mm
        found.append(Known(other.name, other.diameter_mm, (x, y, z)))
    return found
