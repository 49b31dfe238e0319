"""Just touching: hits go to what they fit. What that is is proposed as they come, and chosen and accepted from the device."""

from __future__ import annotations

from typing import Any, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import RowResult, SheetRow, TouchedRecipe, data_for_fit, kind_of
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import INSTRUMENT, Actor, record
from ..plan import without_cad
from ..plan.adding import add_rows, named
from ..plan.picking import kind_for_face
from ..state.recipes import changed, rewrite, whose_kind
from ..state.results import JobResults, load
from ..words import words_for
from .again import on_side, take_over
from .near import Option, nominals_near

WAYS = ("", "space", "plane")  # of touching, in the order in which they follow one another
NEAR_MM = 1.5  # a nominal that the hits lie so near to goes before what only fits
WAITS_MM = 0.3  # by so much a row that waits may lie farther off than another nominal, and goes first
CARRIES = whose_kind(lambda kind: kind.carries_outlines)


def open_row(state: JobResults) -> SheetRow | None:
    """The row that is being touched, if there is one."""
    row = state.current
    return row if row is not None and row.recipe.proposes and not row.finished else None


def options(state: JobResults, row: SheetRow) -> list[Option]:
    """Candidates for a touched row, in order: nominals that are near, fitted shapes, nominals farther off."""
    found = state.results[row.id]
    if found.feature is None or not found.feature.proposals:
        return []
    recipe = cast(TouchedRecipe, row.recipe)
    if recipe.for_axis:
        rms = found.feature.proposals[0].rms_mm
        axes = without_cad.axes_for(state, found)
        return [Option(f"axis:{axis}", f"It faces {axis.replace('-', '−')}", rms, 1.0) for axis in axes]
    fits = [
        Option(f"fit:{p.fit_kind}", _fit_words(recipe, p.fit_kind, found), p.rms_mm, p.sure)
        for p in sorted(found.feature.proposals, key=lambda p: -p.sure)
    ]
    nominals = _nominals(state, found)
    near = [option for option in nominals if option.error_mm <= NEAR_MM]
    near.sort(key=lambda option: option.error_mm - (WAITS_MM if option.code.startswith("row:") else 0.0))
    return [*near, *fits, *(option for option in nominals if option.error_mm > NEAR_MM)]


def chosen(row: SheetRow, found: list[Option]) -> Option | None:
    """The one that a person chose, or else the first."""
    code = cast(TouchedRecipe, row.recipe).chosen
    return next((option for option in found if option.code == code), found[0] if found else None)


def _raw_of_fit(recipe: TouchedRecipe, fit_kind: str, found: RowResult) -> dict[str, Any]:
    """A recipe's data of what fits, on the side that was touched."""
    return on_side(data_for_fit(fit_kind) or {"kind": recipe.kind}, found)


def _fit_words(recipe: TouchedRecipe, fit_kind: str, found: RowResult) -> str:
    as_what = recipe.become(_raw_of_fit(recipe, fit_kind, found))
    return words_for(as_what).stem(as_what) if as_what else fit_kind


def _nominals(state: JobResults, found: RowResult) -> list[Option]:
    """Planned rows, or faces of the CAD, at the hits; nothing before the part is aligned."""
    if state.alignment is None or found.feature is None or found.feature.centers is None:
        return []
    return nominals_near(state, state.alignment.points(found.feature.centers))


# ---- acts --------------------------------------------------------------------------------------


def turn(actor: Actor, job_id: int) -> str:
    """The next way: by the sheet, just touching in space, in a plane, and by the sheet again."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        return turn_on(session, actor, job)


def turn_on(session: Session, actor: Actor, job: Job) -> str:
    """Turn just touching to its next way, within a transaction. Returns the tone."""
    return turn_to(session, actor, job, WAYS[(WAYS.index(job.touching) + 1) % len(WAYS)] if job.touching in WAYS else "")


def turn_to(session: Session, actor: Actor, job: Job, way: str) -> str:
    before, job.touching = job.touching, way
    row = being_touched(session, job)
    if row is not None and way:
        changed(row, **_dimension(session, job), chosen=None)
    record(session, actor, job.id, "just touch", before={"touching": before}, after={"touching": way})
    tell(session, job.id, "sheet", tone="moved")
    return "moved"


def being_touched(session: Session, job: Job) -> Row | None:
    """The open row that was begun by a touch, where that is the current one."""
    row = session.get(Row, job.current_row_id) if job.current_row_id else None
    there = row is not None and row.removed_at is None and row.finished_at is None and kind_of(row.recipe).proposes
    return row if there else None


def begin(session: Session, job: Job) -> Row:
    """A row for what is being touched now: the one that is open, or a new one."""
    row = being_touched(session, job)
    if row is None:
        raw = {"kind": TouchedRecipe.key(), **_dimension(session, job)}
        job.current_row_id = add_rows(session, INSTRUMENT, job.id, named(session, job.id, [raw]))[0]
        row = stored(session, Row, job.current_row_id)
        row.planned_by = None  # nobody planned it: there is no plan to take back
    return row


def _dimension(session: Session, job: Job) -> dict[str, Any]:
    """A 2D shape lies in the plane that was measured last; where there is none, in that of its own hits."""
    if job.touching != "plane":
        return {"flat": False, "plane": None, "for_axis": job.touching == without_cad.AXES_MODE}
    done = Row.job_id == job.id, Row.removed_at.is_(None), Row.finished_at.is_not(None), CARRIES
    last = select(Row.id).where(*done).order_by(Row.position.desc(), Row.id.desc()).limit(1)
    return {"flat": True, "plane": session.scalar(last), "for_axis": False}


def plane_of_touch(state: JobResults) -> str:
    """The name of that plane, or ""."""
    planes = [row for row in state.rows if row.recipe.carries_outlines and row.finished]
    return planes[-1].recipe.name if planes else ""


def choose(session: Session, actor: Actor, state: JobResults, row: Row, by: int) -> str:
    """The next option, or the one before."""
    shown = state.row(row.id)
    found = options(state, shown)
    now = chosen(shown, found)
    if now is None:
        raise InputError("There is nothing to choose yet.", "Nothing was changed.", "Touch it first.")
    return _choose(session, actor, row, found[(found.index(now) + by) % len(found)].code)


def choose_by_code(actor: Actor, job_id: int, row_id: int, code: str) -> None:
    """The one that a person pointed at."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row, state = being_touched(session, job), load(session, job_id)
        if row is None or row.id != row_id or code not in {o.code for o in options(state, state.row(row_id))}:
            raise InputError("That is not proposed any more.", "Nothing was changed.", "Choose one that is.")
        _choose(session, actor, row, code)


def _choose(session: Session, actor: Actor, row: Row, code: str) -> str:
    changed(row, chosen=code)
    record(session, actor, row.job_id, "choose what was touched", row=row.id, code=code)
    tell(session, row.job_id, "sheet", row=row.id, tone="moved")
    return "moved"


def accept(session: Session, actor: Actor, state: JobResults, job: Job, row: Row) -> Row:
    """Accept a proposal for a touched row: it becomes that kind, or its hits go to the planned row. Returns that row."""
    shown = state.row(row.id)
    option = chosen(shown, options(state, shown))
    recipe = cast(TouchedRecipe, shown.recipe)
    if option is None:
        found = state.results[row.id]
        raise InputError(
            found.message or "There is no hit yet.", "All hits are kept; the row stays open.", "Take more hits, then finish."
        )
    what, _, which = option.code.partition(":")
    before, axis = row.recipe, which if what == "axis" else None
    if axis is not None:
        what, which = "fit", "plane"
    if what == "row":
        target = stored(session, Row, int(which))
        take_over(session, target, row)
        target.finished_at = row.finished_at
        job.current_row_id = target.id
    else:
        raw = _raw_of_face(state, int(which)) if what == "face" else _raw_of_fit(recipe, which, state.results[row.id])
        called = {"name": named(session, job.id, [raw])[0].name}
        become = recipe.become({**raw, **called}, hits=max(1, state.results[row.id].hits))
        target = row
        rewrite(row, become or recipe.become(raw) or recipe)
    record(session, actor, job.id, "accept", row=target.id, code=option.code, before=before, after=target.recipe)
    tell(session, job.id, "sheet")
    session.flush()
    if axis is not None:
        without_cad.settle(session, actor, job, target, axis)
    return target


def _raw_of_face(state: JobResults, index: int) -> dict[str, Any]:
    face = next(face for face in state.faces if face["index"] == index)
    kind = kind_for_face(face)
    assert kind is not None
    return kind.of_face(index, face["nominal"], bool(face["inside"]))
