"""Hits that do not seem to belong to their row: where they lie instead, and what can be done with them in one press."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import cast

from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import MeasuredRecipe, SheetRow
from ...core.sheet.elsewhere import far_off
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..plan.picking import plan_face
from ..state.readings import mark_undone
from ..state.recipes import changed
from ..state.results import JobResults, load
from . import onward
from .again import give
from .near import Option, nominals_near

GIVE, BACK, STAY = "give:", "back:", "stay:"
NEAR_MM = 1.5  # what they lie so near to, they may be meant for


@dataclass(frozen=True)
class Astray:
    """``words``: what is wrong, and where they lie; ``options``: of what can be done, code and words; ``keys``: of the hits
    that are far off, or of all where only the form tells."""

    words: str
    options: tuple[tuple[str, str], ...]
    keys: tuple[str, ...]


def astray(state: JobResults, row: SheetRow) -> Astray | None:
    """Of a row whose hits do not seem to belong to it; None where nothing speaks against them."""
    found = state.results[row.id]
    if not found.elsewhere or found.feature is None:
        return None
    system = None if found.held else state.alignment
    far = None if system is None else far_off(cast(MeasuredRecipe, row.recipe), found.feature, system)
    keys, words, options = found.feature.counted, found.elsewhere, []
    if far is not None and far.any():
        keys = tuple(key for key, off in zip(keys, far, strict=True) if off)
        if (there := _there(state, row, keys)) is not None:
            words = f"{words} {'They lie' if len(keys) > 1 else 'It lies'} on {there.words}."
            if far.all():
                options.append((f"{GIVE}{there.code}", f"Give them to {there.words}"))
    back = "Take them back" if len(keys) > 1 else "Take it back"
    options += [(BACK, back), (STAY, "They are right" if len(keys) > 1 else "It is right")]
    return Astray(words, tuple(options), keys)


def _there(state: JobResults, row: SheetRow, keys: tuple[str, ...]) -> Option | None:
    """Planned rows, or faces of the CAD, on which some of a row's hits lie."""
    feature = state.results[row.id].feature
    assert feature is not None and feature.centers is not None and state.alignment is not None
    theirs = [key in keys for key in feature.counted]
    own = f"face:{row.recipe.cad_face}"
    near = nominals_near(state, state.alignment.points(feature.centers[theirs]))
    found = next((o for o in near if o.error_mm <= NEAR_MM and o.code != own), None)
    if found is None or not found.code.startswith("face:"):
        return found
    measured = next((r for r in state.measured if f"face:{r.recipe.cad_face}" == found.code), None)
    return found if measured is None else replace(found, code=f"row:{measured.id}", words=measured.recipe.name)


def choose(actor: Actor, job_id: int, row_id: int, code: str) -> bool:
    """Do with them what a person chose. False where that was no such choice."""
    if not code.startswith((GIVE, BACK, STAY)):
        return False
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state, row = load(session, job_id), session.get(Row, row_id)
        found = astray(state, state.row(row_id)) if row is not None and row_id in state.sheet.index else None
        if row is None or found is None or code not in dict(found.options):
            raise InputError("That is not asked any more.", "Nothing was changed.", "Look at the row again.")
        if code == STAY:
            changed(row, as_touched=True)
            session.flush()
            if row.finished_at is not None:
                onward.from_answered(session, actor, job, row_id)
            record(session, actor, job_id, "hits belong here", row=row_id)
        elif code == BACK:
            _take_back(session, actor, job, row, found.keys)
        else:
            target = _row_of(session, actor, state, code.removeprefix(GIVE))
            row.finished_at, job.current_row_id = None, target.id
            give(session, actor, job, row, target)
        tell(session, job_id, "sheet", tone="undone" if code == BACK else "moved")
    return True


def _take_back(session: Session, actor: Actor, job: Job, row: Row, keys: tuple[str, ...]) -> None:
    mark_undone(session, keys, actor.id)
    row.finished_at, job.current_row_id = None, row.id
    record(session, actor, job.id, "undo", row=row.id, hits=list(keys))


def _row_of(session: Session, actor: Actor, state: JobResults, code: str) -> Row:
    """The chosen row; planned from the face where none exists yet."""
    what, _, which = code.partition(":")
    return stored(session, Row, int(which) if what == "row" else plan_face(session, actor, state.job.id, int(which)))
