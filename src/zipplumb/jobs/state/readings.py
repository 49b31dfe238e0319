"""Raw readings in the database: kept, taken back and put together, for rows and for trials by the same code.

A reading belongs to a row of a job, or to a calibration or check under way. It is kept once, whatever is sent
twice; nothing that was read is changed or deleted: what does not count has a mark.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from copy import copy
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, Integer, Select, and_, func, literal, or_, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.network import InstrumentClass
from ...core.readings import HitSet
from ...core.stripes import is_light, unpacked
from ...devices.hits import HitBatch
from ...store import models
from ...store.models import DeviceEvent, Instrument, Mark

PULL_OFF = "pull_off"
POLAR = ("range_mm", "range_per_m_mm", "angle_rad")  # of a statement
WHOLE = None  # in the place of the number of a hit: every hit of the reading
Marked = frozenset[int | None]  # of one reading
Marks = Mapping[int, Marked]
READING, HITS = models.Reading, func.cardinality(models.Reading.ns)
NO_LINE = np.empty((0, 2))
STANDS = Mark.lifted_at.is_(None)


def stated_of(spec: Mapping[str, Any]) -> InstrumentClass | None:
    """The maker's specification of a polar instrument; None for an arm."""
    return InstrumentClass(*(spec[name] for name in POLAR)) if all(name in spec for name in POLAR) else None


def first_time(session: Session, instrument_id: int, device_session: str, number: int | None) -> bool:
    """Whether a press is carried out for the first time; part of the act's own transaction."""
    if number is None:
        return True
    press = {"instrument_id": instrument_id, "session": device_session, "number": number}
    return (
        session.execute(insert(DeviceEvent).values(**press).on_conflict_do_nothing().returning(text("1"))).first() is not None
    )


def store(session: Session, instrument: Instrument, batch: HitBatch, **whose) -> None:
    """Keep a batch, at most once. ``whose``: the columns of the row, or of the trial, that it belongs to.

    Raises InputError where these very samples were kept for something else before.
    """
    values = {
        "instrument_id": instrument.id, "conditions": conditions_of(instrument, batch),
        "temperature_c": instrument.temperature_c,
        "kind": batch.kind, "session": batch.session, "first_n": batch.ns[0], "sweep": batch.sweep, "ns": list(batch.ns),
        "times": list(batch.times), "poses": list(batch.poses), "approach": list(batch.approach), "faces": list(batch.faces),
        "points": batch.points, "counts": list(batch.counts),
    }  # fmt: skip
    kept = insert(models.Reading).values(**values, **whose).on_conflict_do_nothing(constraint="readings_once")
    if session.execute(kept.returning(models.Reading.id)).first() is None:
        must_be_kept(session, instrument, batch, **whose)


def must_be_kept(session: Session, instrument: Instrument, batch: HitBatch, **whose) -> None:
    """Refuse a repeated batch that was stored for another job or trial: confirming it would be false."""
    place = "trial_id" if "trial_id" in whose else "job_id"
    query = select(models.Reading).where(
        models.Reading.instrument_id == instrument.id, models.Reading.session == batch.session,
        models.Reading.kind == batch.kind, models.Reading.first_n == batch.ns[0],
    )  # fmt: skip
    kept = session.scalar(query)
    if kept is None or getattr(kept, place) != whose[place]:
        raise InputError(
            f"{instrument.name} sends hits that it had sent before, for something else.",
            "They stay where they were kept; nothing was added here.",
            "Let the instrument begin a new session: switch it off and on.",
        )


def conditions_of(instrument: Instrument, batch: HitBatch) -> dict[str, Any]:
    """Conditions that a result depends on besides poses and calibration; stored with the reading."""
    known = {
        "u_hit_mm": instrument.u_hit_mm, "spec": instrument.spec, "level": instrument.level,
        "u_level_rad": instrument.u_level_rad, "pressure_hpa": instrument.pressure_hpa,
        "humidity_percent": instrument.humidity_percent, "gap_s": batch.gap_s or None,
    }  # fmt: skip
    return {name: value for name, value in known.items() if value is not None}


def by_batch(pairs: Iterable[tuple[int, int | None]]) -> dict[int, Marked]:
    """Marks, by the reading that they are of."""
    found: dict[int, set[int | None]] = defaultdict(set)
    for reading_id, hit in pairs:
        found[reading_id].add(hit)
    return {reading_id: frozenset(hits) for reading_id, hits in found.items()}


def marks_of(session: Session, whose: ColumnElement[bool]) -> dict[int, Marked]:
    """For each reading, what of it does not count."""
    query = select(Mark.reading_id, Mark.hit).join(READING, READING.id == Mark.reading_id).where(whose, STANDS)
    return by_batch((reading_id, hit) for reading_id, hit in session.execute(query))


def take_back(session: Session, whose: ColumnElement[bool], whole_press: bool, by: int | None) -> dict[str, Any]:
    """Mark the last hit that counts as undone, or all that came with its press.

    Returns what is recorded of it: how many hits, of which readings. Empty where nothing stood.
    """
    newest = _counting(and_(whose, READING.kind != PULL_OFF)).order_by(READING.id.desc()).limit(1)
    last = session.execute(newest.add_columns(READING.session, READING.sweep, HITS.label("hits"))).first()
    if last is None:
        return {}
    if not whole_press:
        marked = set(session.scalars(select(Mark.hit).where(Mark.reading_id == last.id, STANDS)))
        hit = max(k for k in range(last.hits) if k not in marked)
        session.add(Mark(reading_id=last.id, row_id=last.row_id, hit=hit, reason="undone", by=by))
        return {"hits": 1, "readings": [last.id]}
    alike = and_(READING.kind != PULL_OFF, READING.session == last.session, READING.sweep == last.sweep)
    readings = _mark_whole(session, and_(whose, alike), "undone", by)
    of = READING.id.in_(readings)
    singly = select(func.count()).where(Mark.reading_id.in_(readings), STANDS, Mark.hit.is_not(None)).scalar_subquery()
    return {"hits": session.scalar(select(func.sum(HITS) - singly).where(of)), "readings": readings}


def mark_undone(session: Session, keys: Iterable[str], by: int | None) -> None:
    """Take back single hits that count, by their keys."""
    pairs = [tuple(int(part) for part in key.split(".")) for key in keys]
    query = select(READING.id, READING.row_id).where(READING.id.in_({reading_id for reading_id, _ in pairs}))
    rows = {reading_id: row_id for reading_id, row_id in session.execute(query)}
    session.add_all(Mark(reading_id=r, row_id=rows[r], hit=hit, reason="undone", by=by) for r, hit in pairs if r in rows)


def _counting(whose: ColumnElement[bool]) -> Select:
    """Readings of which at least one hit counts.

    Those of which none does are gathered once, not asked for one by one: a row may have thousands.
    """
    gone = (
        select(Mark.reading_id)
        .join(READING, READING.id == Mark.reading_id)
        .where(whose, STANDS)
        .group_by(Mark.reading_id, HITS)
        .having(or_(func.bool_or(Mark.hit.is_(None)), func.count() >= HITS))
        .correlate(None)
    )
    return select(READING.id, READING.row_id).where(whose, READING.id.not_in(gone))


def _mark_whole(session: Session, whose: ColumnElement[bool], reason: str, by: int | None) -> list[int]:
    """One mark a reading, however many hits it has, in the database itself. Returns their ids."""
    session.flush()
    marks = _counting(whose).add_columns(literal(reason), literal(by, Integer))
    marked = insert(Mark).from_select(["reading_id", "row_id", "reason", "by"], marks)
    return list(session.connection().scalars(marked.returning(Mark.reading_id)))


def forget_pull_offs(session: Session, row_id: int, by: int | None) -> None:
    """A row that is open again has no pull-off yet."""
    _mark_whole(session, and_(READING.row_id == row_id, READING.kind == PULL_OFF), "undone", by)


def set_all_aside(session: Session, whose: ColumnElement[bool], by: int | None) -> None:
    """Mark every hit that counts as not counting."""
    _mark_whole(session, whose, "aside", by)


def lift_aside(session: Session, whose: ColumnElement[bool], by: int | None) -> None:
    """Let every hit count again that was set aside; what was taken back stays so."""
    of = select(READING.id).where(whose)
    aside = update(Mark).where(Mark.reading_id.in_(of), STANDS, Mark.reason == "aside")
    session.execute(aside.values(lifted_at=func.now()), execution_options={"synchronize_session": False})


def set_aside(session: Session, reading: models.Reading, hit: int, aside: bool, by: int | None) -> None:
    """Mark a hit as not counting, or lift its mark; where the whole reading has one, all its other hits keep theirs."""
    marks = {mark.hit: mark for mark in session.scalars(select(Mark).where(Mark.reading_id == reading.id, STANDS))}
    whole, own = marks.get(WHOLE), marks.get(hit)
    if aside and whole is None and own is None:
        session.add(Mark(reading_id=reading.id, row_id=reading.row_id, hit=hit, reason="aside", by=by))
    if aside:
        return
    for mark in filter(None, (whole, own)):
        mark.lifted_at = datetime.now(UTC)
    if whole is not None:
        others = set(range(len(reading.ns))) - marks.keys() - {hit}
        each = {"reading_id": reading.id, "row_id": reading.row_id, "reason": whole.reason, "by": whole.by}
        session.add_all(Mark(**each, hit=k) for k in others)


# what a batch is made of; the points of a scan are not among it, they go by chunk to whoever wants them
OF_BATCH = [
    READING.id, READING.row_id, READING.kind, READING.session, READING.sweep, READING.station_id, READING.calibration_id,
    READING.poses, READING.approach, READING.times, READING.faces, READING.conditions,
]  # fmt: skip


@dataclass(frozen=True, eq=False)
class Batch:
    """A batch as it is worked with: arrays of numbers, once and for all."""

    id: int
    row_id: int | None
    kind: str
    press: tuple[str, int]
    station_id: int
    calibration_id: int
    poses: np.ndarray
    approach: np.ndarray
    times: np.ndarray
    faces: np.ndarray
    lines: tuple[np.ndarray, ...]
    conditions: dict[str, Any]

    @classmethod
    def of(cls, kept: Any, with_light: bool = False) -> Batch:
        """A reading, or its columns; ``with_light``: with the points of its lines of light."""
        return cls(
            kept.id, kept.row_id, kept.kind, (kept.session, kept.sweep), kept.station_id or 0, kept.calibration_id or 0,
            np.reshape(np.array(kept.poses, float), (-1, 7)), np.reshape(np.array(kept.approach, float), (-1, 7)),
            np.array(kept.times, float), np.array(kept.faces or [1] * len(kept.times)),
            tuple(_lines(kept) if with_light else ()), kept.conditions,
        )  # fmt: skip

    def __len__(self) -> int:
        return len(self.times)

    @property
    def stated(self) -> InstrumentClass | None:
        """The maker's specification of a polar instrument at the time of the reading."""
        return stated_of(self.conditions.get("spec", {}))


class History:
    """All batches of one row or trial, joined as they come: a new one costs itself, not all that were before."""

    def __init__(self, batches: Iterable[Batch] = ()):
        self.new: list[Batch] = list(batches)
        self.joined: dict[str, np.ndarray] = {}
        self.keys: tuple[str, ...] = ()
        self.lines: tuple[np.ndarray, ...] = ()
        self.scanned = False
        self.spans: dict[int, slice] = {}
        self.presses: dict[tuple[str, int], int] = {}
        self.gaps: tuple[tuple[int, float], ...] = ()
        self.u_hit_mm = 0.0
        self.stated: dict[int, InstrumentClass] = {}
        self.pull_offs: list[Batch] = []
        self.told: tuple[Any, HitSet | None] = (None, None)

    def add(self, batch: Batch) -> None:
        self.new.append(batch)

    def copy(self) -> History:
        """To which may be added without changing this one; what was joined is shared, and never written to."""
        found = copy(self)
        found.new, found.pull_offs = list(self.new), list(self.pull_offs)
        found.spans, found.presses, found.stated = dict(self.spans), dict(self.presses), dict(self.stated)
        return found

    def reading(self, marks: Marks | None = None, applied: Mapping[int, int] | None = None) -> HitSet | None:
        """The batches joined to one reading; None where there is no hit. ``marks``: hits that do not count, by batch.

        ``applied``: the calibrations that are worked with in the place of those that were read with.
        """
        marks = marks or {}
        applied = {k: v for k, v in applied.items() if k in self._read_with()} if applied else {}
        asked = (len(self.new), len(self.pull_offs), marks, applied)
        if self.new or self.told[0] != asked:
            self._join()
            asked = (0, len(self.pull_offs), marks, applied)
            self.told = asked, self._reading(marks, applied)
        return self.told[1]

    def _read_with(self) -> set[int]:
        known = {b.calibration_id for b in (*self.new, *self.pull_offs)}
        return known | set(np.unique(self.joined["calibrations"]).tolist()) if self.joined else known

    def _join(self) -> None:
        new, self.new = self.new, []
        self.pull_offs += [b for b in new if b.kind == PULL_OFF]
        hits = [b for b in new if b.kind != PULL_OFF]
        if not hits:
            return
        counts = [len(b) for b in hits]
        count = len(self.keys)
        for batch, size in zip(hits, counts, strict=True):
            self.spans[batch.id] = slice(count, count + size)
            if "gap_s" in batch.conditions:
                self.gaps = (*self.gaps, (count, batch.conditions["gap_s"]))
            self.presses.setdefault(batch.press, len(self.presses) + 1)
            if (stated := batch.stated) is not None:
                self.stated[batch.station_id] = stated.or_worse(self.stated.get(batch.station_id))
            count += size
        self.keys += tuple(f"{b.id}.{k}" for b in hits for k in range(len(b)))
        self.lines += tuple(line for b in hits for line in b.lines)
        self.scanned = self.scanned or any(len(line) for b in hits for line in b.lines)
        self.u_hit_mm = max(self.u_hit_mm, *(b.conditions.get("u_hit_mm", 0.0) for b in hits))
        each = {
            "poses": [b.poses for b in hits], "approach": [b.approach for b in hits], "times": [b.times for b in hits],
            "faces": [b.faces for b in hits], "stations": [np.repeat([b.station_id for b in hits], counts)],
            "calibrations": [np.repeat([b.calibration_id for b in hits], counts)],
            "sweeps": [np.repeat([self.presses[b.press] for b in hits], counts)],
        }  # fmt: skip
        self.joined = {n: np.concatenate([self.joined[n], *v] if self.joined else v) for n, v in each.items()}

    def _reading(self, marks: Marks, applied: Mapping[int, int]) -> HitSet | None:
        if not self.keys:
            return None
        aside = np.zeros(len(self.keys), bool)
        for batch, hits in marks.items():
            if batch in self.spans:
                single = [hit for hit in hits if hit is not WHOLE]
                aside[self.spans[batch]][single if len(single) == len(hits) else slice(None)] = True
        calibrations = self.joined["calibrations"]
        for read_with, instead in applied.items():
            calibrations = np.where(self.joined["calibrations"] == read_with, instead, calibrations)
        off = max((b for b in self.pull_offs if not marks.get(b.id)), key=lambda b: b.id, default=None)
        return HitSet(
            keys=self.keys,
            aside=aside,
            pull_off=off.poses.ravel() if off else None,
            pull_off_station=off.station_id if off else None,
            pull_off_calibration=applied.get(off.calibration_id, off.calibration_id) if off else None,
            lines=self.lines if self.scanned else (),
            u_hit_mm=self.u_hit_mm,
            gaps=self.gaps,
            stated=self.stated,
            **{**self.joined, "calibrations": calibrations},  # type: ignore[arg-type]
        )


def _lines(kept: Any) -> Iterable[np.ndarray]:
    """Of each hit, the places (n, 2) on its line of light; of a touch none."""
    if not kept.counts:
        return [NO_LINE] * len(kept.times)
    return [stripe[is_light(stripe), :2].astype(float) for stripe in unpacked(kept.points, kept.counts)]


def applied_calibrations(session: Session) -> dict[int, int]:
    """Old calibration → the one that is worked with in its place."""
    query = select(models.Recalibration).where(models.Recalibration.taken_back_at.is_(None)).order_by(models.Recalibration.id)
    return {r.old_id: r.new_id for r in session.scalars(query)}
