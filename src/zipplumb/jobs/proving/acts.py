"""Planning what would settle a row, and what was foretold of it beside what came out."""

from __future__ import annotations

from collections.abc import Mapping
from functools import singledispatch
from typing import Any, cast

from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import Array
from ...core.sheet import MeasuredRecipe
from ...core.sheet.proving.way import AlsoHeld, MoreHits, Way
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..state.recipes import changed, rewrite
from ..state.results import JobResults, load
from .foretold import ACT
from .standing import causes_of, settling_of

NOTHING = "Nothing was planned."


def plan(actor: Actor, job_id: int, row_id: int, key: str) -> list[int]:
    """More hits where they tell the most: the rows that they are on ask for them, the first is current. Returns these rows.
    Or a spare hold of the alignment, at once.

    Raises
    ------
    InputError
        That way is none any more, as something was changed since it was shown.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        found = settling_of(session, state, row_id)
        way = next((each for each in found.ways if key and each.key == key), None) if found is not None else None
        if found is None or way is None:
            raise InputError("What would settle it is another way by now.", NOTHING, "Look at its ways once more.")
        judged = found.outlook.judged
        told = {"row": row_id, "key": judged.key, "of": judged.of, "U_now": judged.U, "U": way.U, "chance": way.chance}
        return _planned(way, session, actor, job, state, told)


@singledispatch
def _planned(way: Way, session: Session, actor: Actor, job: Job, state: JobResults, told: Mapping[str, Any]) -> list[int]:
    raise NotImplementedError(type(way))


@_planned.register
def _(way: MoreHits, session: Session, actor: Actor, job: Job, state: JobResults, told: Mapping[str, Any]) -> list[int]:
    return _asked(session, actor, job, state, way.aims, told)


@_planned.register
def _(way: AlsoHeld, session: Session, actor: Actor, job: Job, state: JobResults, told: Mapping[str, Any]) -> list[int]:
    assert way.recipe is not None
    row = stored(session, Row, way.system)
    before = rewrite(row, way.recipe)
    record(session, actor, job.id, "edit", row=way.system, before=before, after=row.recipe)
    record(session, actor, job.id, ACT, **told, hits={})
    tell(session, job.id, "sheet")
    return []


def mend(actor: Actor, job_id: int, row_id: int) -> list[int]:
    """More hits on one row, by which the most others are settled. Raises InputError where there are none any more."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        cause = next((each for each in causes_of(session, state) if each.row == row_id), None)
        if cause is None:
            raise InputError("More hits on it would settle nothing any more.", NOTHING, "Look at what is left once more.")
        return _asked(session, actor, job, state, {row_id: cause.aims}, {"row": row_id, "others": list(cause.rows)})


def _asked(
    session: Session, actor: Actor, job: Job, state: JobResults, aims: Mapping[int, Array], told: Mapping[str, Any]
) -> list[int]:
    """Rows ask for more hits at certain places, in the world; the first of them is current."""
    for touched, places in aims.items():
        in_part = [] if state.alignment is None else state.alignment.points(places).round(4).tolist()
        recipe = cast(MeasuredRecipe, state.row(touched).recipe)
        changed(stored(session, Row, touched), **recipe.asking(state.results[touched].hits + len(places), in_part))
    rows = list(aims)
    record(session, actor, job.id, ACT, **told, hits={str(row): len(places) for row, places in aims.items()})
    job.touching, job.current_row_id = "", rows[0]
    tell(session, job.id, "sheet", row=rows[0], tone="moved")
    return rows
