"""What was foretold of a row when more hits were planned for it."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...store.models import Change
from ..state.results import JobResults

ACT = "plan what settles it"


@dataclass(frozen=True)
class Foretold:
    """Of a row: U that was foretold of one of its characteristics, and how many hits are still to come."""

    key: str
    of: str
    U_before: float
    U: float
    to_come: int


def foretold(session: Session, state: JobResults, row_id: int) -> Foretold | None:
    """What was foretold of a row when its ways were planned last; None where they never were."""
    of_row = Change.detail["row"].as_integer() == row_id
    mine = Change.job_id == state.job.id, Change.act == ACT, of_row, Change.detail["U"].isnot(None)
    detail = session.scalar(select(Change.detail).where(*mine).order_by(Change.id.desc()).limit(1))
    if detail is None:
        return None
    touched = [int(row) for row in detail["hits"] if int(row) in state.sheet.index]
    to_come = sum(max(0, state.row(row).recipe.wanted_hits - state.results[row].hits) for row in touched)
    return Foretold(detail["key"], detail["of"], detail["U_now"], detail["U"], to_come)
