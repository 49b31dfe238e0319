"""What the pages of a job are given: everything worked out, nothing to calculate."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.units import length_text
from ..exchange.table import RowText
from ..jobs.prompts import Prompt, prompt
from ..jobs.results import JobResults
from ..jobs.rows_text import row_texts
from ..store.models import Instrument, Job, Station


@dataclass(frozen=True)
class JobView:
    """A job for its pages: rows as words, the prompt, and what is active."""

    job: Job
    rows: list[RowText]
    prompt: Prompt
    instrument: Instrument | None
    probe: str
    probe_short: str
    alignment: str
    counts: dict[str, int]

    @classmethod
    def of(cls, session: Session, state: JobResults) -> JobView:
        job = state.job
        instrument = instrument_of(session, job.id)
        cal = instrument.calibration if instrument else None
        solved = state.results.get(job.alignment_row_id)
        rows = row_texts(state)
        return cls(
            job,
            rows,
            prompt(state, instrument),
            instrument,
            cal.probe.name if cal else "none",
            f"Ø{length_text(cal.diameter_mm, job.units)}" if cal else "none",
            state.row(job.alignment_row_id).recipe.name if solved and solved.alignment else "",
            {word: sum(r.word == word for r in rows) for word in ("in", "close", "out", "not proven", "to do", "asks")},
        )


def instrument_of(session: Session, job_id: int) -> Instrument | None:
    """The instrument that stands at a job now."""
    query = select(Instrument).join(Station, Station.id == Instrument.station_id).where(Station.job_id == job_id)
    return session.scalars(query.order_by(Instrument.id)).first()


def scene_of(state: JobResults) -> dict:
    """What the stage draws: per row its face, hits and state; part frame, mm."""
    rows = {}
    for row in state.rows:
        found = state.results[row.id]
        raw: dict = {
            "face": getattr(row.recipe, "face", None),
            "state": found.state,
            "word": found.verdict.word if found.verdict else "",
            "datum": getattr(row.recipe, "datum", None),
            "name": row.recipe.name,
        }
        if found.contacts_part is not None:
            raw["hits"] = found.contacts_part.round(3).tolist()
            worst = found.fit.worst
            raw["worst"] = worst.index if worst and worst.sure > 0.99 and abs(worst.off_by_mm) >= 0.03 else None
        if found.distance is not None and found.aligned_by is not None:
            motion = state.results[found.aligned_by].alignment.part_from_world
            ends = motion.points([found.distance.foot, found.distance.middle])
            raw["ends"] = ends.round(3).tolist()
        rows[str(row.id)] = raw
    return {"current": state.job.current_row_id, "order": [str(r.id) for r in state.rows], "rows": rows}
