"""Another piece is begun: the same plan, report and pictures, and nothing measured."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet.base import Needed
from ...core.sheet.planned import renamed
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ...store.pieces import Plan
from ...store.reports import Document, Picture
from ..actor import Actor, record
from ..outcomes.over import pieces_of
from ..place.details import copied
from ..plan.sheet import checked_name
from ..report.documents import part_of
from ..report.views import view_of
from .shared_plan import OwnPlan, here, newest_plan, own_plan, rows_of

MOST_PIECES, LONGEST, MOST_LINES = 500, 60, 12
NOTHING = "No piece was begun."


def measure_another(actor: Actor, piece_id: int, serial: str, identity: str = "") -> int:
    """Begin another piece of a job by the plan that one of them has now. Returns its id.

    ``serial``: its serial number, another one than those of the job's other pieces; ``identity``: what else identifies it, a
    line each, as "Order: 4711". Raises InputError.
    """
    actor.must_change()
    called, lines = _serial(serial), identity_of(identity)
    with transaction() as session:
        like = stored(session, Job, piece_id, lock=True)
        stored(session, Job, like.of_job, lock=True)  # one at a time begins another
        others = pieces_of(session, piece_id)
        _must_be_new(others, called)
        if len(others) >= MOST_PIECES:
            raise InputError(f"A job has up to {MOST_PIECES} pieces.", NOTHING, "Begin another job for more.")
        own = own_plan(session, like)
        plan = kept_as_plan(session, actor, like, own)
        piece = Job(
            name=like.name, part_id=like.part_id, units=like.units, kept_bodies=like.kept_bodies, rule=like.rule,
            created_by=actor.id, first_id=like.of_job, serial=called, identity=lines, plan_id=plan.id,
        )  # fmt: skip
        session.add(piece)
        session.flush()
        row_of = planned_rows(session, piece, own)
        _copy(session, like, piece, {row.id: row_of[row.in_plan] for row in rows_of(session, like.id) if row.in_plan in row_of})
        record(session, actor, piece.id, "begin piece", like=like.id, serial=called, identity=lines, plan=plan.id)
        tell(session, like.id, "pieces")
        return piece.id


def copy_plan(actor: Actor, job_id: int, name: str) -> int:
    """Begin a job of its own on the same part by the plan of another, with its report and pictures. Returns its id."""
    actor.must_change()
    name = checked_name(name)
    with transaction() as session:
        like = stored(session, Job, job_id)
        own = own_plan(session, like)
        job = Job(
            name=name, part_id=like.part_id, units=like.units, kept_bodies=like.kept_bodies, rule=like.rule, created_by=actor.id
        )  # fmt: skip
        session.add(job)
        session.flush()
        row_of = planned_rows(session, job, own)
        _copy(session, like, job, {row.id: row_of[row.in_plan] for row in rows_of(session, like.id) if row.in_plan in row_of})
        for row in rows_of(session, job.id):
            row.plan_row = None  # its plan goes its own way
        record(session, actor, job.id, "new job", name=name, plan_of=like.id)
        return job.id


def planned_rows(session: Session, piece: Job, plan: OwnPlan) -> dict[int, int]:
    """The rows of a plan on the sheet of a new piece. Returns the row of each key."""
    rows = {key: Row(job_id=piece.id, position=at, recipe={}, plan_row=key) for at, key in enumerate(plan.rows, start=1)}
    session.add_all(rows.values())
    session.flush()
    row_of = {key: row.id for key, row in rows.items()}
    for key, raw in plan.rows.items():
        recipe = here(raw, row_of)
        rows[key].recipe = recipe.model_dump(mode="json")
        if piece.current_row_id is None and recipe.takes_hits:
            piece.current_row_id = row_of[key]
    piece.alignment_row_id = row_of.get(plan.told["alignment"])
    session.flush()
    return row_of


def kept_as_plan(session: Session, actor: Actor, piece: Job, own: OwnPlan) -> Plan:
    """The job's plan as a piece has it: the newest one, where that says the same, or a new one, which the piece has then."""
    newest = newest_plan(session, piece)
    rows = [{"key": key, "recipe": recipe} for key, recipe in own.rows.items()]
    if newest is None or (newest.rows, newest.told) != (rows, own.told):
        newest = Plan(
            job_id=piece.of_job, piece_id=piece.id, told=own.told, rows=rows, left=list(own.left), by=actor.id
        )  # fmt: skip
        session.add(newest)
        session.flush()
    piece.plan_id = newest.id
    return newest


def name_piece(actor: Actor, piece_id: int, serial: str, identity: str) -> None:
    """Its serial number, and what else identifies it. Raises InputError."""
    actor.must_change()
    called, lines = _serial(serial), identity_of(identity)
    with transaction() as session:
        piece = stored(session, Job, piece_id, lock=True)
        _must_be_new([each for each in pieces_of(session, piece_id) if each.id != piece_id], called)
        before = {"serial": piece.serial, "identity": piece.identity}
        piece.serial, piece.identity = called, lines
        record(session, actor, piece_id, "name piece", before=before, after={"serial": called, "identity": lines})
        tell(session, piece_id, "pieces")


def _serial(text: str) -> str:
    serial = " ".join(text.split())
    if not serial or len(serial) > LONGEST or not serial.isprintable():
        raise InputError(f"A serial number is 1 to {LONGEST} letters or digits.", NOTHING, "Type it as it stands on the piece.")
    return serial


def identity_of(text: str) -> list[list[str]]:
    """Name and value of each line, as "Order: 4711". Raises InputError."""
    found = []
    for line in filter(None, map(str.strip, text.splitlines())):
        name, colon, value = (each.strip() for each in line.partition(":"))
        if not colon or not name or not value or len(line) > 2 * LONGEST or not line.isprintable():
            raise InputError(f"“{line[:40]}” does not say what it is.", NOTHING, "Type a line each, as “Order: 4711”.")
        found.append([name, value])
    if len(found) > MOST_LINES:
        raise InputError(f"A piece is told by up to {MOST_LINES} lines.", NOTHING, "Leave some out.")
    return found


def _must_be_new(others: Sequence[Job], serial: str) -> None:
    if any(each.serial.casefold() == serial.casefold() for each in others):
        raise InputError(f"There is a piece {serial} in this job already.", NOTHING, "Type its own serial number.")


def _copy(session: Session, like: Job, piece: Job, row_of: dict[int, int]) -> None:
    """Details, pictures and reports, of the new piece's own rows."""
    rename = _renaming(row_of, {})
    copied(session, like.id, piece.id, rename)
    picture_of: dict[int, int] = {}
    for each in session.scalars(select(Picture).where(Picture.job_id == like.id).order_by(Picture.id)):
        if each.view is None and each.what == "view":
            continue  # kept as it was seen once, of the other piece
        view = None if each.view is None else renamed(view_of(each.view), rename)
        made = Picture(job_id=piece.id, what=each.what, view=view, png=each.png, caption=each.caption)
        session.add(made)
        session.flush()
        picture_of[each.id] = made.id
    rename = _renaming(row_of, picture_of)
    for document in session.scalars(select(Document).where(Document.job_id == like.id).order_by(Document.id)):
        parts: list[Any] = [renamed(part_of(raw), rename) for raw in document.parts]
        told = {name: getattr(document, name) for name in ("name", "paper", "decimals", "mark")}
        session.add(Document(job_id=piece.id, parts=parts, **told))


def _renaming(row_of: dict[int, int], picture_of: dict[int, int]) -> Callable[[Needed], int | None]:
    return lambda need: picture_of.get(need.id) if need.what == "picture" else row_of.get(need.id)
