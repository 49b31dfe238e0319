"""Which row is current once another is done."""

from __future__ import annotations

from sqlalchemy.orm import Session

from ...core.sheet import SheetRow
from ...store.models import Job
from ..actor import Actor
from ..state.results import JobResults, load
from . import chain


def next_to_measure(state: JobResults, after: int) -> int | None:
    """The next feature or scan that is not finished, from a row on and round; the row itself if none."""
    read = [r for r in state.rows if r.recipe.takes_hits or r.recipe.takes_light]
    ids = [r.id for r in read]
    at = ids.index(after) if after in ids else -1
    for row in read[at + 1 :] + read[: at + 1]:
        if row.id != after and (not row.finished or wants_more(state, row)):
            return row.id
    return after


def wants_more(state: JobResults, row: SheetRow) -> bool:
    """It is finished, and more hits are wanted of it at certain places: they join those that it has."""
    return row.finished and len(row.recipe.aims_left(state.results[row.id].hits)) > 0


def from_answered(session: Session, actor: Actor, job: Job, row_id: int) -> None:
    """A row of which something was asked is answered: if it is still current, what follows it is current now."""
    if job.current_row_id != row_id:
        return
    state = load(session, job.id)
    job.current_row_id = next_to_measure(state, row_id)
    if state.row(row_id).finished and state.results[row_id].state == "done":
        chain.follow(session, actor, job, row_id)
