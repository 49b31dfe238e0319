"""Raw readings in the database: kept, taken back and put together, for rows and for trials by the same code.

A reading belongs to a row of a job, or to a calibration or check under way. It is kept once, whatever is sent
twice; nothing that was read is changed or deleted: what does not count has a mark.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.readings import Reading
from ..devices.hits import HitBatch
from ..store import models
from ..store.models import DeviceEvent, Instrument, Mark

PULL_OFF = "pull_off"


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
        "lines": [v for line in batch.lines for v in line], "counts": [len(line) // 2 for line in batch.lines],
    }  # fmt: skip
    kept = insert(models.Reading).values(**values, **whose).on_conflict_do_nothing(constraint="readings_once")
    if session.execute(kept.returning(models.Reading.id)).first() is None:
        must_be_kept(session, instrument, batch, **whose)


def must_be_kept(session: Session, instrument: Instrument, batch: HitBatch, **whose) -> None:
    """What is sent twice was kept for the same job, or the same trial; else it is refused: a tone would lie."""
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
    """What a result rests on beside the poses and the calibration: kept with the reading, as it is at this moment."""
    known = {
        "u_hit_mm": instrument.u_hit_mm, "spec": instrument.spec, "level": instrument.level,
        "u_level_rad": instrument.u_level_rad, "pressure_hpa": instrument.pressure_hpa,
        "humidity_percent": instrument.humidity_percent, "gap_s": batch.gap_s or None,
    }  # fmt: skip
    return {name: value for name, value in known.items() if value is not None}


def marks_of(session: Session, whose: ColumnElement[bool]) -> dict[int, set[int]]:
    """By reading, the numbers of its hits that do not count."""
    query = (
        select(Mark.reading_id, Mark.hit)
        .join(models.Reading, models.Reading.id == Mark.reading_id)
        .where(whose, Mark.lifted_at.is_(None))
    )
    marks: dict[int, set[int]] = defaultdict(set)
    for reading_id, hit in session.execute(query):
        marks[reading_id].add(hit)
    return marks


def take_back(session: Session, whose: ColumnElement[bool], whole_press: bool, by: int | None) -> list[str]:
    """Mark the last hit that counts as undone, or all that came with its press. Returns their keys; none: nothing stood."""
    query = select(models.Reading).where(whose, models.Reading.kind != PULL_OFF).order_by(models.Reading.id.desc())
    batches, marks = session.scalars(query).all(), marks_of(session, whose)
    standing = [(b, k) for b in batches for k in reversed(range(len(b.ns))) if k not in marks.get(b.id, ())]
    if not standing:
        return []
    last = standing[0][0]
    alike = [(b, k) for b, k in standing if (b.session, b.sweep) == (last.session, last.sweep)]
    taken_back = alike if whole_press else standing[:1]
    for batch, hit in taken_back:
        session.add(Mark(reading_id=batch.id, hit=hit, reason="undone", by=by))
    return [f"{b.id}.{k}" for b, k in taken_back]


def forget_pull_offs(session: Session, row_id: int, by: int | None) -> None:
    """A row that is open again has no pull-off yet."""
    query = select(models.Reading.id).where(models.Reading.row_id == row_id, models.Reading.kind == PULL_OFF)
    marked = select(Mark.reading_id).where(Mark.lifted_at.is_(None))
    for reading_id in session.scalars(query.where(models.Reading.id.not_in(marked))):
        session.add(Mark(reading_id=reading_id, hit=0, reason="undone", by=by))


def set_aside(session: Session, reading: models.Reading, hit: int, aside: bool, by: int | None) -> None:
    """Mark a hit as not counting, or lift its mark."""
    query = select(Mark).where(Mark.reading_id == reading.id, Mark.hit == hit, Mark.lifted_at.is_(None))
    standing = session.scalar(query)
    if aside and standing is None:
        session.add(Mark(reading_id=reading.id, hit=hit, reason="aside", by=by))
    elif not aside and standing is not None:
        standing.lifted_at = datetime.now(UTC)


def together(
    batches: Sequence[models.Reading], marks: dict[int, set[int]], calibration: Callable[[int], int] = lambda c: c
) -> Reading | None:
    """All batches of one row or trial as one reading; None where there is no hit.

    Parameters
    ----------
    calibration : which one is worked with in the place of the one that a batch was read with
    """
    hits = sorted((b for b in batches if b.kind != PULL_OFF), key=lambda b: b.id)
    if not hits:
        return None
    off = (b for b in batches if b.kind == PULL_OFF and not marks.get(b.id))
    pull_off = max(off, key=lambda b: b.id, default=None)
    counts = [len(b.ns) for b in hits]
    sweeps = {key: k + 1 for k, key in enumerate(dict.fromkeys((b.session, b.sweep) for b in hits))}

    def cal(batch: models.Reading) -> int:
        return calibration(batch.calibration_id) if batch.calibration_id else 0

    return Reading(
        keys=tuple(f"{b.id}.{k}" for b in hits for k in range(len(b.ns))),
        poses=np.concatenate([np.reshape(b.poses, (-1, 7)) for b in hits]),
        approach=np.concatenate([np.reshape(np.array(b.approach, float), (-1, 7)) for b in hits]),
        aside=np.array([k in marks.get(b.id, ()) for b in hits for k in range(len(b.ns))], bool),
        stations=np.repeat([b.station_id or 0 for b in hits], counts),
        calibrations=np.repeat([cal(b) for b in hits], counts),
        times=np.concatenate([b.times for b in hits]),
        pull_off=np.array(pull_off.poses) if pull_off else None,
        pull_off_station=pull_off.station_id if pull_off else None,
        pull_off_calibration=cal(pull_off) if pull_off else None,
        sweeps=np.repeat([sweeps[b.session, b.sweep] for b in hits], counts),
        faces=np.concatenate([np.array(b.faces or [1] * len(b.ns)) for b in hits]),
        lines=tuple(line for b in hits for line in _lines(b)) if any(b.counts for b in hits) else (),
        u_hit_mm=max(b.conditions.get("u_hit_mm", 0.0) for b in hits),
        gaps=tuple((sum(counts[:k]), b.conditions["gap_s"]) for k, b in enumerate(hits) if "gap_s" in b.conditions),
    )


def _lines(batch: models.Reading) -> Iterable[np.ndarray]:
    points = np.reshape(batch.lines, (-1, 2))
    if not batch.counts:
        return [np.empty((0, 2))] * len(batch.ns)
    return np.split(points, np.cumsum(batch.counts)[:-1])
