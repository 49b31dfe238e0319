"""Where rows stand on the sheet: one or several are taken off it, brought back, and put elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..state.recipes import recipe_of
from .adding import ROW_GONE, check_references, take_letter, take_off
from .sheet import as_seen

NONE_CHOSEN = InputError("No row is chosen.", "Nothing was changed.", "Choose rows on the sheet or on the part.")


def remove(actor: Actor, job_id: int, rows: Sequence[int], seen: str | None = None) -> None:
    """Take rows off the sheet in one act; their readings are kept. Refused while other rows rest on them.

    ``seen``: of a single row, as the person saw it (see ``sheet.seen_of``).
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        going = _going(_standing(session, job_id), rows)
        if len(going) == 1:
            as_seen(going[0], seen)
        take_off(session, job, going)
        for row in going:
            record(session, actor, job_id, "remove", row=row.id)
        tell(session, job_id, "sheet")


def taken_off(session: Session, job_id: int, most: int = 12) -> list[Row]:
    """Rows that were taken off the sheet and can come back, the latest first."""
    gone = Row.job_id == job_id, Row.removed_at.is_not(None), Row.taken_over_by.is_(None)
    return list(session.scalars(select(Row).where(*gone).order_by(Row.removed_at.desc(), Row.position).limit(most)))


def bring_back(actor: Actor, job_id: int, row_id: int) -> None:
    """A row that was taken off stands where it stood, with its readings. Refused while what it rests on is not there."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        row = session.get(Row, row_id)
        if row is None or row.job_id != job_id or row.removed_at is None or row.taken_over_by is not None:
            raise InputError("That row was not taken off this sheet.", "Nothing was changed.", "Look at the Part page again.")
        recipe = recipe_of(row)
        take_letter(session, job_id, row_id, recipe.datum_letter or None)
        row.removed_at = None
        check_references(session, job_id, recipe)
        record(session, actor, job_id, "bring back", row=row_id)
        tell(session, job_id, "sheet")


def move(actor: Actor, job_id: int, rows: Sequence[int], by: int) -> None:
    """One place up (-1) or down (+1); several go together, beside one another."""

    def place(others: list[int], first: int, last: int) -> int:
        return first - 1 if by < 0 else last + 2 - len(set(rows))

    _move(actor, job_id, rows, place)


def put(actor: Actor, job_id: int, rows: Sequence[int], before: int | None) -> None:
    """To the place before another row; None: to the end."""
    _move(actor, job_id, rows, lambda others, *_: others.index(before) if before is not None else len(others))


def _move(actor: Actor, job_id: int, rows: Sequence[int], to_place: Callable[[list[int], int, int], int]) -> None:
    """``to_place``: of the ids of the other rows, and the places of the first and the last that go, where among the others
    these go."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        every = _standing(session, job_id)
        going, places = _going(every, rows), {row.id: place for place, row in enumerate(every)}
        chosen = set(rows)
        others = [row for row in every if row.id not in chosen]
        try:
            to = to_place([row.id for row in others], places[going[0].id], places[going[-1].id])
        except ValueError:
            raise ROW_GONE from None
        to = min(max(to, 0), len(others))
        for k, row in enumerate([*others[:to], *going, *others[to:]]):
            row.position = k + 1
        for k, row in enumerate(going):
            record(
                session, actor, job_id, "move", row=row.id, before={"place": places[row.id] + 1}, after={"place": to + k + 1}
            )
        tell(session, job_id, "sheet")


def _standing(session: Session, job_id: int) -> list[Row]:
    """The rows of the sheet, in order."""
    query = select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None)).order_by(Row.position, Row.id)
    return list(session.scalars(query))


def _going(every: Sequence[Row], rows: Sequence[int]) -> list[Row]:
    """The chosen ones, in order. Raises InputError where none is chosen, or one is not there any more."""
    chosen = set(rows)
    if not chosen:
        raise NONE_CHOSEN
    going = [row for row in every if row.id in chosen]
    if len(going) != len(chosen):
        raise ROW_GONE
    return going
