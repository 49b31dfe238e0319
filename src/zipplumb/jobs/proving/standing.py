"""A job as it stands, to be looked at as it would be with more hits."""

from __future__ import annotations

from functools import partial

from sqlalchemy.orm import Session

from ...core.frames import Array
from ...core.sheet.proving.causes import Cause, causes
from ...core.sheet.proving.standing import Standing
from ...core.sheet.proving.way import Settling
from ...core.sheet.proving.ways import settling
from ..measure.spots import spots_of_row
from ..state.clouds import kept_in
from ..state.remembered import memory_of
from ..state.results import JobResults
from .work import work_of


def standing_of(session: Session, state: JobResults) -> Standing:
    """What is worked out again is taken from what is there; nothing of it is kept."""
    memory = memory_of(state.job.id)
    return Standing(
        state.sheet, state.readings, state.kit, state.results, memory.found, state.surfaces, kept_in(session)
    )  # fmt: skip


def settling_of(session: Session, state: JobResults, row_id: int) -> Settling | None:
    """What would settle a row; None where nothing of it is open. Raises InputError for a row of another job."""
    state.row(row_id)
    return settling(standing_of(session, state), row_id, partial(_spots, state), work_of(state))


def causes_of(session: Session, state: JobResults) -> list[Cause]:
    """More hits on one row that likely settle others, the most for their work first."""
    return causes(standing_of(session, state), partial(_spots, state), work_of(state))


def _spots(state: JobResults, touched: int) -> Array | None:
    found = spots_of_row(state, state.row(touched))
    return state.alignment.part_from_world.inverse().points(found) if state.alignment is not None and len(found) else None
