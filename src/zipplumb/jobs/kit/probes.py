"""The library of probes, their calibrations, and which readings used them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.calibration import Question, question_about
from ...core.cloud.head import ScannerHead
from ...core.errors import InputError
from ...core.units import length_from_text, length_text, unit_of
from ...store.database import stored, tell, transaction
from ...store.models import Calibration, Instrument, Job, Probe, Reading, Recalibration, Row, Station
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from .heads import head_from_form


@dataclass(frozen=True)
class ProbeKind:
    """``on``: kinds of instrument that take it; ``sized``: it has a diameter, by which it is known as ``known_as``; ``stated``:
    its center is what is seen; ``touches``: it touches, and so makes hits; ``calibrations``: by their kinds (``TRIALS``)."""

    words: str
    on: tuple[str, ...]
    known_as: Literal["ball", "reflector", ""] = ""
    stated: bool = False
    touches: bool = True
    calibrations: tuple[str, ...] = ()

    @property
    def sized(self) -> bool:
        return bool(self.known_as)


PROBE_KINDS = {
    "ball": ProbeKind("touch probe with a ball", ("arm",), "ball", calibrations=("pivot", "sphere")),
    "scanner": ProbeKind("line scanner", ("arm",), touches=False, calibrations=("scanner",)),
    "reflector": ProbeKind("reflector", ("tracker",), "reflector", stated=True),
    "beam": ProbeKind("beam without a probe", ("radar",), stated=True),
}
BALLS = [key for key, kind in PROBE_KINDS.items() if kind.known_as == "ball"]
STATED_U_MM = 0.003  # of a reflector's radius, where nothing else is known
DRAWN_U_MM = 0.5  # of a tip that was never calibrated: as far as a drawing may be off


@dataclass(frozen=True)
class Typed:
    """A new probe as typed, and what is asked before it is kept."""

    name: str
    kind: str
    diameter_mm: float
    drawn_offset_mm: list[float]
    question: Question | None
    head: ScannerHead | None = None

    @property
    def maker_states(self) -> dict[str, Any] | None:
        return None if self.head is None else self.head.model_dump()


def typed_probe(form: Mapping[str, str]) -> Typed:
    """Read the form of a probe. Raises InputError naming the field."""
    name, kind = form.get("name", "").strip()[:80], form.get("kind", "")
    if not name:
        raise InputError("The probe has no name.", "Nothing was kept.", "Give it one that you will know again.")
    if kind not in PROBE_KINDS:
        raise InputError("The kind of probe was not chosen.", "Nothing was kept.", "Choose one of the kinds.")
    long = length_from_text(form.get("length") or "180 mm", "mm", "the length")
    beside = length_from_text(form.get("beside") or "0 mm", "mm", "how far beside the axis")
    drawn = [0.0, beside, long]
    known_as = PROBE_KINDS[kind].known_as
    if not known_as:
        return Typed(name, kind, 0.0, drawn, None, None if PROBE_KINDS[kind].touches else head_from_form(form))
    diameter = length_from_text(form.get("diameter", ""), unit_of(form, "diameter"), "the diameter")
    return Typed(name, kind, diameter, drawn, question_about(known_as, diameter))


def add_probe(actor: Actor, typed: Typed, sure: bool = False) -> int:
    """Keep a probe; an implausible diameter only where the person is sure. Returns its id."""
    actor.must_change()
    if typed.question is not None and not sure:
        raise InputError(typed.question.words, "Nothing was kept yet.", "Say which is meant.")
    with transaction() as session:
        _free_name(session, typed.name, None)
        probe = Probe(
            name=typed.name, kind=typed.kind, diameter_mm=typed.diameter_mm, drawn_offset_mm=typed.drawn_offset_mm,
            maker_states=typed.maker_states,
        )  # fmt: skip
        session.add(probe)
        session.flush()
        record(session, actor, None, "add probe", probe=probe.id, diameter_mm=typed.diameter_mm)
        tell(session, None, "kit")
        return probe.id


def _free_name(session: Session, name: str, but: int | None) -> None:
    same = session.scalar(select(Probe.id).where(Probe.name == name, Probe.removed_at.is_(None)))
    if same is not None and same != but:
        raise InputError(f"There is a probe “{name}” already.", "Nothing was changed.", "Choose another name.")


def correct_probe(actor: Actor, probe_id: int, typed: Typed, sure: bool = False, seen: str | None = None) -> None:
    """Correct what was typed of a probe; earlier calibrations keep the diameter that they were made with."""
    actor.must_change()
    if typed.question is not None and not sure:
        raise InputError(typed.question.words, "Nothing was changed yet.", "Say which is meant.")
    with transaction() as session:
        probe = existing(session, probe_id)
        must_be_as_seen(edition_of(probe), seen, probe.name)
        _free_name(session, typed.name, probe_id)
        before = probe.diameter_mm
        probe.name, probe.kind, probe.diameter_mm = typed.name, typed.kind, typed.diameter_mm
        probe.maker_states = typed.maker_states
        probe.drawn_offset_mm = [probe.drawn_offset_mm[0], *typed.drawn_offset_mm[1:]]
        if before != typed.diameter_mm:
            _doubt_all(
                session, probe_id, f"Its probe's diameter was corrected from {before:.3f} to {typed.diameter_mm:.3f} mm since."
            )
        record(session, actor, None, "correct probe", probe=probe_id, before_mm=before, diameter_mm=typed.diameter_mm)
        tell(session, None, "kit")


def _doubt_all(session: Session, probe_id: int, words: str) -> None:
    for cal in session.scalars(select(Calibration).where(Calibration.probe_id == probe_id)):
        cal.doubt = cal.doubt or words


def existing(session: Session, probe_id: int) -> Probe:
    probe = session.get(Probe, probe_id, with_for_update={"key_share": True})
    if probe is None or probe.removed_at is not None:
        raise InputError("That probe is not in the library.", "Nothing was changed.", "Choose one from the list.")
    return probe


def remove_probe(actor: Actor, probe_id: int, seen: str | None = None) -> None:
    """Out of the library; its calibrations and readings stay."""
    actor.must_change()
    with transaction() as session:
        probe = existing(session, probe_id)
        must_be_as_seen(edition_of(probe), seen, probe.name)
        on = session.scalar(
            select(Instrument.name)
            .join(Calibration, Calibration.id == Instrument.calibration_id)
            .where(Calibration.probe_id == probe_id)
        )
        if on:
            raise InputError(f"{probe.name} is on {on}.", "Nothing was changed.", "Put another probe on it first.")
        probe.removed_at = datetime.now(UTC)
        record(session, actor, None, "remove probe", probe=probe_id)


def newest(session: Session, probe_id: int, instrument_id: int) -> Calibration | None:
    """The probe's newest calibration on an instrument that was made, not drawn, and is in the history."""
    query = select(Calibration).where(
        Calibration.probe_id == probe_id, Calibration.instrument_id == instrument_id, Calibration.method != "drawn",
        Calibration.removed_at.is_(None),
    )  # fmt: skip
    return session.scalars(query.order_by(Calibration.made_at.desc(), Calibration.id.desc())).first()


def put_on(actor: Actor, instrument_id: int, probe_id: int) -> None:
    """Choose the probe that is on an instrument: with its newest calibration there, or with its drawn values, said plainly."""
    actor.must_change()
    with transaction() as session:
        instrument = stored(session, Instrument, instrument_id, lock=True)
        put_on_in(session, instrument, existing(session, probe_id))
        record(session, actor, None, "put probe on", instrument=instrument_id, probe=probe_id)
        tell_all(session, instrument)


def put_on_in(session: Session, instrument: Instrument, probe: Probe) -> None:
    kind = PROBE_KINDS[probe.kind]
    if instrument.kind not in kind.on:
        wanted = " or ".join(each.words for each in PROBE_KINDS.values() if instrument.kind in each.on)
        raise InputError(f"{probe.name} does not go on {instrument.name}.", "Nothing was changed.", f"Choose a {wanted}.")
    cal = newest(session, probe.id, instrument.id)
    if cal is None:
        cal = Calibration(
            probe_id=probe.id, instrument_id=instrument.id, offset_mm=list(probe.drawn_offset_mm),
            diameter_mm=probe.diameter_mm, rms_mm=0.0, u_radius_mm=DRAWN_U_MM, u_offset_mm=DRAWN_U_MM,
            method="drawn", temperature_c=instrument.temperature_c,
            doubt=f"{probe.name} was never calibrated on {instrument.name}: its drawn values were used.",
        )  # fmt: skip
        if kind.stated:
            cal.method, cal.doubt, cal.offset_mm, cal.u_offset_mm = "stated", "", [0.0, 0.0, 0.0], 0.0
            cal.u_radius_mm = STATED_U_MM if kind.sized else 0.0
        session.add(cal)
        session.flush()
    instrument.calibration_id = cal.id


def tell_all(session: Session, instrument: Instrument, **more) -> None:
    """Notify all pages of the kit, and of the job at which the instrument stands."""
    station = session.get(Station, instrument.station_id) if instrument.station_id else None
    tell(session, station.job_id if station else 0, "kit", instrument=instrument.id, **more)


# ---- history ----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Use:
    """Rows of a job that were read with a calibration."""

    job_id: int
    job: str
    rows: tuple[str, ...]


def uses(session: Session, calibration_id: int) -> list[Use]:
    """Where a calibration was used."""
    return uses_of(session, [calibration_id]).get(calibration_id, [])


def uses_of(session: Session, calibrations: Iterable[int]) -> dict[int, list[Use]]:
    """Where each of some calibrations was used."""
    query = (
        select(Reading.calibration_id, Job.id, Job.name, Row.recipe["name"].astext)
        .select_from(Reading)
        .join(Row, Row.of_hits(Reading.row_id))
        .join(Job, Job.id == Row.job_id)
        .where(Reading.calibration_id.in_(list(calibrations)), Row.removed_at.is_(None))
        .distinct()
        .order_by(Job.id)
    )
    jobs: dict[tuple[int, int, str], list[str]] = {}
    for calibration, job_id, job, row in session.execute(query):
        jobs.setdefault((calibration, job_id, job), []).append(row)
    found: dict[int, list[Use]] = {}
    for (calibration, job_id, job), rows in jobs.items():
        found.setdefault(calibration, []).append(Use(job_id, job, tuple(sorted(rows))))
    return found


def history(session: Session, *probes: int) -> list[Calibration]:
    """The calibrations of one or more probes, newest first; those taken out are left out."""
    query = select(Calibration).where(Calibration.probe_id.in_(probes), Calibration.removed_at.is_(None))
    return list(session.scalars(query.order_by(Calibration.made_at.desc(), Calibration.id.desc())))


def forget_calibration(actor: Actor, calibration_id: int) -> None:
    """Take one out of the history; readings made with it keep it."""
    actor.must_change()
    with transaction() as session:
        cal = session.get(Calibration, calibration_id)
        if cal is None:
            raise InputError("That calibration is not there.", "Nothing was changed.", "Choose one from the history.")
        if session.scalar(select(func.count()).select_from(Instrument).where(Instrument.calibration_id == calibration_id)):
            raise InputError(
                "That calibration is in use on an instrument.", "It was kept.", "Calibrate anew, or put another probe on first."
            )
        cal.removed_at = datetime.now(UTC)
        record(session, actor, None, "take calibration out", calibration=calibration_id)
        tell(session, 0, "kit")


# ---- a new calibration for what was read with an old one ---------------------------------------


def apply_newest(actor: Actor, old_id: int) -> int:
    """Evaluate readings of an old calibration with the probe's newest one; the readings stay. Returns it."""
    actor.must_change()
    with transaction() as session:
        old = session.get(Calibration, old_id)
        new = newest(session, old.probe_id, old.instrument_id) if old and old.instrument_id else None
        if old is None or new is None or new.id == old_id or new.doubt:
            raise InputError(
                "There is no newer calibration of that probe that passed.", "Nothing was changed.", "Calibrate it first."
            )
        session.add(Recalibration(old_id=old_id, new_id=new.id, by=actor.id))
        _tell_users(session, actor, old_id, "apply calibration", new=new.id)
        return new.id


def take_back(actor: Actor, old_id: int) -> None:
    """Work with the old calibration again."""
    actor.must_change()
    with transaction() as session:
        standing = session.scalars(
            select(Recalibration).where(Recalibration.old_id == old_id, Recalibration.taken_back_at.is_(None))
        ).all()
        if not standing:
            raise InputError("Nothing was applied to that calibration.", "Nothing was changed.", "Look at the history.")
        for one in standing:
            one.taken_back_at = datetime.now(UTC)
        _tell_users(session, actor, old_id, "take calibration back")


def _tell_users(session: Session, actor: Actor, old_id: int, act: str, **detail) -> None:
    for use in uses(session, old_id):
        record(session, actor, use.job_id, act, calibration=old_id, **detail)
        tell(session, use.job_id, "sheet")
    tell(session, 0, "kit")


def lift_doubt(actor: Actor, calibration_id: int) -> None:
    """A person answers for it: what was measured with a calibration is believed again."""
    actor.must_change()
    with transaction() as session:
        cal = session.get(Calibration, calibration_id)
        if cal is None or not cal.doubt or cal.method == "drawn":
            raise InputError("That calibration is not in doubt.", "Nothing was changed.", "Look at the history.")
        words, cal.doubt = cal.doubt, ""
        _tell_users(session, actor, calibration_id, "trust calibration", doubt=words)


def doubt(session: Session, calibration_id: int, words: str) -> list[Use]:
    """Put all readings of a calibration in doubt. Returns the rows affected."""
    cal = stored(session, Calibration, calibration_id)
    cal.doubt = cal.doubt or words
    touched = uses(session, calibration_id)
    for use in touched:
        tell(session, use.job_id, "sheet")
    return touched


def calibration_words(cal: Calibration) -> str:
    size = f", {length_text(cal.diameter_mm, 'mm')} mm ({length_text(cal.diameter_mm, 'in')} in)" if cal.diameter_mm else ""
    if cal.method == "stated":
        return f"{cal.probe.name}{size}, as its maker states"
    return f"{cal.probe.name}{size}, calibrated {cal.made_at:%Y-%m-%d %H:%M}, rms {length_text(cal.rms_mm, 'mm')} mm"
