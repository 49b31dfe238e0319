"""Changes of the plan: offered by one piece, taken over by the others that are not finished."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.fingerprints import fingerprint
from ...core.sheet import RowRecipe
from ...core.sheet.planned import found_here
from ...core.tolerances.decision import Rule
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row, User
from ...store.pieces import Plan
from ..actor import Actor, record
from ..plan.adding import MOST_ROWS, take_letter, take_off
from ..state.recipes import recipe_of, rewrite
from ..state.results import JobResults
from .another import kept_as_plan
from .shared_plan import Difference, differences, here, kept_rows, newest_plan, own_changes, own_plan, rows_of

NOTHING = "Nothing was changed."


@dataclass(frozen=True)
class Offered:
    """To one piece. ``changes``: of others, by whom and when; ``own``: what nobody else has; ``seen``: names the offer."""

    changes: tuple[Difference, ...]
    own: tuple[Difference, ...]
    by: str
    at: str
    seen: str


def offered(session: Session, piece: Job) -> Offered:
    """What a piece may take over, and what it may offer."""
    newest = newest_plan(session, piece)
    if newest is None:
        return Offered((), (), "", "", "")
    taken = session.get(Plan, piece.plan_id) if piece.plan_id is not None else None
    own = own_plan(session, piece)
    who = session.get(User, newest.by) if newest.by else None
    changes = tuple(differences(own, taken, newest))
    seen = fingerprint(newest.id, *(f"{each.key} {each.what}" for each in changes))
    return Offered(changes, tuple(own_changes(own, taken)), who.name if who else "", f"{newest.at:%Y-%m-%d %H:%M} UTC", seen)


def is_offered(session: Session, state: JobResults) -> bool:
    """The job's plan is another than the one that a piece has taken over, and the piece is not finished; whether anything of
    that is new to it is not asked."""
    if state.job.plan_id is None or is_finished(state):
        return False
    newest = session.scalar(select(func.max(Plan.id)).where(Plan.job_id == state.job.of_job))
    return newest != state.job.plan_id


def is_finished(state: JobResults) -> bool:
    """Nothing of it is left to be measured: changes of the plan are not offered to it of themselves."""
    return bool(state.measured) and all(row.finished for row in state.measured)


def offer(actor: Actor, piece_id: int) -> None:
    """The plan of a piece is the job's plan from now on, and is offered to its others. Raises InputError."""
    actor.must_change()
    with transaction() as session:
        piece = stored(session, Job, piece_id, lock=True)
        stored(session, Job, piece.of_job, lock=True)
        now = offered(session, piece)
        if now.changes:
            raise InputError(
                "The job's plan was changed meanwhile.",
                "Nothing was offered.",
                "Take these changes over, or leave them, first.",
            )
        if not now.own:
            raise InputError("This piece has no changes of its own.", "Nothing was offered.", "Change its plan first.")
        plan = kept_as_plan(session, actor, piece, own_plan(session, piece))
        record(session, actor, piece_id, "offer plan", plan=plan.id, changes=[each.name for each in now.own])
        tell(session, piece_id, "pieces")


def take_over(actor: Actor, piece_id: int, keys: Collection[int], seen: str) -> int:
    """Take chosen changes of the job's plan over; the others are left, and not offered again. Returns how many were taken.

    ``keys``: of rows in the plan, 0 for the job itself; ``seen``: of the offer as the person saw it. What was measured is kept.
    Raises InputError.
    """
    actor.must_change()
    with transaction() as session:
        piece = stored(session, Job, piece_id, lock=True)
        now, newest = offered(session, piece), newest_plan(session, piece)
        if newest is None or now.seen != seen:
            raise InputError("The job's plan was changed meanwhile.", NOTHING, "Look at what is offered now.")
        chosen = [each for each in now.changes if each.key in keys]
        if len(chosen) < len(set(keys)):
            raise InputError("One of these is not offered any more.", NOTHING, "Look at what is offered now.")
        _carry(session, piece, newest, chosen)
        piece.plan_id = newest.id
        record(session, actor, piece_id, "take plan over", plan=newest.id, rows=[each.name for each in chosen])
        tell(session, piece_id, "sheet")
        return len(chosen)


def _carry(session: Session, piece: Job, newest: Plan, chosen: Collection[Difference]) -> None:
    plan, there = kept_rows(newest), {row.in_plan: row for row in rows_of(session, piece.id)}
    new = [each.key for each in chosen if each.what == "new"]
    if len(there) + len(new) > MOST_ROWS:
        raise InputError(f"The sheet would have more than {MOST_ROWS} rows.", NOTHING, "Take fewer over.")
    position = 1 + (session.scalar(select(func.max(Row.position)).where(Row.job_id == piece.id)) or 0)
    for k, key in enumerate(new):
        there[key] = Row(job_id=piece.id, position=position + k, recipe={}, plan_row=key)
        session.add(there[key])
    session.flush()
    row_of = {key: row.id for key, row in there.items()}
    for each in chosen:
        if each.key and each.what == "new":
            there[each.key].recipe = here(plan[each.key], row_of).model_dump(mode="json")
        elif each.key and each.what == "changed":
            _change(there[each.key], here(plan[each.key], row_of))
    session.flush()
    for key in {each.key for each in chosen if each.key and each.what != "gone"}:
        take_letter(session, piece.id, row_of[key], there[key].recipe.get("datum"))
    take_off(session, piece, [there[each.key] for each in chosen if each.what == "gone"])
    if any(not each.key for each in chosen):
        piece.rule = cast(Rule, newest.told["rule"])
        piece.alignment_row_id = row_of.get(newest.told["alignment"] or 0, piece.alignment_row_id)


def _change(row: Row, planned: RowRecipe) -> None:
    """The recipe of the plan, with what was found of this piece."""
    before = recipe_of(row)
    if before.kind == planned.kind:
        planned = planned.model_copy(update={name: getattr(before, name) for name in found_here(type(before))})
    rewrite(row, planned)
