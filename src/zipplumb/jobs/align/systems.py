"""Coordinate systems of a job."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation
from sqlalchemy.orm import Session

from ...core.alignment import Alignment
from ...core.errors import InputError
from ...core.features import plane_of, point_of, radius_of
from ...core.frames import Array
from ...core.sheet import SheetRow, kind_of, recipe_from_dict
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..plan.adding import add_row, add_rows, check_references, named, names_of, rests_on
from ..plan.forms import changed, data_of, names_one, texts_of
from ..plan.lettered import datums_of, target_of
from ..state.recipes import rewrite
from ..state.results import JobResults, load, what_if
from .alignment_text import AlignmentText, alignment_text_of

MOST_STEPS = 40
NOT_ON_THE_SHEET = 2**31 - 1  # the id of a row that is tried


@dataclass(frozen=True)
class LetteredDatum:
    """A datum by its letter: the row that has it, or the places that are its targets."""

    letter: str
    rows: tuple[SheetRow, ...]

    @property
    def names(self) -> str:
        return " ".join(row.recipe.name for row in self.rows)

    @property
    def is_plane(self) -> bool:
        """It is one plane itself, and not what lies in one."""
        shape = self.rows[0].recipe.should_be
        return len(self.rows) == 1 and shape is not None and plane_of(shape) is shape


def lettered(state: JobResults) -> list[LetteredDatum]:
    """The datums that the sheet has, in the order of their letters."""
    found = datums_of((row.id, row.recipe) for row in state.rows)
    return [LetteredDatum(letter, tuple(map(state.row, rows))) for letter, rows in sorted(found.items())]


def plan_lettered(actor: Actor, job_id: int) -> int:
    """An alignment on the datums with the first three letters: planes, or whatever they are and their targets.

    The first planned alignment becomes the active one. Returns the new row's id.
    """
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        datums = lettered(load(session, job_id))[:3]
        if len(datums) < 3:
            raise InputError(
                "An alignment needs datums of three letters.", "Nothing was planned.",
                "Set datum letters A, B and C on three rows, or plan places called A1, A2, … as their targets.",
            )  # fmt: skip
        if all(datum.is_plane for datum in datums):
            return _on_planes(session, actor, job_id, [datum.rows[0].id for datum in datums])
        raw = {"kind": "datum_features", "datums": [{"features": [row.id for row in datum.rows]} for datum in datums]}
        return add_rows(session, actor, job_id, named(session, job_id, [raw]))[0]


def plan_datum_planes(actor: Actor, job_id: int, rows: Sequence[int]) -> int:
    """An alignment on three planes, the primary first; active if it is the first. Returns the new row's id."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        return _on_planes(session, actor, job_id, rows)


def _on_planes(session: Session, actor: Actor, job_id: int, rows: Sequence[int]) -> int:
    names = dict(zip(("primary", "secondary", "tertiary"), rows, strict=True))
    return add_rows(session, actor, job_id, named(session, job_id, [{"kind": "datum_planes", **names}]))[0]


def bolt_circle_rows(state: JobResults) -> tuple[list[SheetRow], list[SheetRow]]:
    """Rows that may level the part (planes), and rows that may be holes of a bolt circle (round features and centers, no
    lines)."""
    known = [(row, state.shape_of(row)) for row in state.measured]
    flat = [row for row, shape in known if plane_of(shape) is not None]
    return flat, [row for row, shape in known if radius_of(shape) or point_of(shape) is not None]


def plan_on_bolt_circle(actor: Actor, job_id: int, plane: int | None, holes: Sequence[int], clock: int | None) -> int:
    """An alignment with its zero in the middle of a bolt circle: a plane levels, and X runs through one hole. Returns its row.

    ``clock``: the hole on X, also one that is not of the circle.
    """
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        flat, round_ = ({row.id for row in rows} for rows in bolt_circle_rows(load(session, job_id)))
        through = list(dict.fromkeys(row for row in holes if row in round_))
        if plane not in flat or clock not in round_ or len(through) < 3:
            raise InputError(
                "A bolt circle as zero needs a plane, three of its holes at least, and the hole that lies on X.",
                "Nothing was planned.", "Choose what is missing.",
            )  # fmt: skip
        circle = {"through": through}
        steps = [
            {"step": "turn", "features": [plane], "axis": "+Z"}, {"step": "turn", "features": [circle, clock], "axis": "+X"},
            {"step": "origin", "feature": plane, "coordinates": "Z"},
            {"step": "origin", "feature": circle, "coordinates": "XY"},
        ]  # fmt: skip
        raw = {"kind": "steps", "steps": steps, "onto": "own"}
        return add_rows(session, actor, job_id, named(session, job_id, [raw], "Bolt circle"))[0]


def places_of(alignment: Alignment | None) -> list[tuple[str, Array]]:
    """Where the part may lie, in words, and as a rotation vector, part from world; none where there is one place only."""
    if alignment is None or not alignment.others:
        return []
    found = [("as it is drawn now", alignment.part_from_world)]
    found += [(place.words, place.part_from_world) for place in alignment.others]
    return [(words, Rotation.from_matrix(motion.rotation).as_rotvec()) for words, motion in found]


def settle(actor: Actor, job_id: int, row_id: int, turn: Sequence[float]) -> None:
    """Say in which of several places that fit equally well the part lies: the one nearest to a turn, see ``places_of``."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        places = [Rotation.from_rotvec(place) for _, place in places_of(state.results[state.row(row_id).id].alignment)]
        if not places:
            raise InputError("That alignment has one place only.", "Nothing was changed.", "Look at the page again.")
        wanted = Rotation.from_rotvec(np.clip(turn, -7, 7))
        x, y, z = min(places, key=lambda place: (place * wanted.inv()).magnitude()).as_rotvec().tolist()
        settled = state.row(row_id).recipe.settled((x, y, z))
        if settled is None:
            raise InputError("That alignment has one place only.", "Nothing was changed.", "Look at the page again.")
        row = stored(session, Row, row_id)
        before = rewrite(row, settled)
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)


def may_be_datums(state: JobResults, row: SheetRow) -> list[SheetRow]:
    """The features that an alignment rests on and that may have a datum letter, in the order in which it names them."""
    named = dict.fromkeys(need.id for need in row.needs if need.what == "feature" and need.id in state.sheet.index)
    rows = (each for each in map(state.row, named) if target_of(each.recipe) is None)  # whose name says the letter
    return [row for row in rows if "datum" in type(row.recipe).model_fields]


def users_of(state: JobResults, row_id: int) -> list[str]:
    """Rows that rest on an alignment, by name; what is judged in the active one is not among them."""
    return [row.recipe.name for row in state.rows if row.id != row_id and rests_on(row.recipe, [row_id])]


def copy(actor: Actor, job_id: int, row_id: int) -> int:
    """Add a copy of an alignment, to be changed. Returns the new row's id."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        recipe = _system(load(session, job_id), row_id).recipe
        raw = {**recipe.model_dump(mode="json"), "name": f"{recipe.name[:60]}, copy"}
        taken = set(names_of(session, job_id))
        if raw["name"] in taken:
            raw["name"] = next(name for k in range(2, 10_000) if (name := f"{raw['name']} {k}") not in taken)
        return add_row(session, actor, job_id, raw)


def as_typed(session: Session, state: JobResults, row_id: int, texts: Mapping[str, str]) -> SheetRow:
    """An alignment as its form says it, nothing kept. Raises InputError with what is wrong in the form."""
    row = _system(state, row_id)
    new = changed(texts, texts_of(row.recipe, state.job.units))
    raw = data_of(row.recipe.kind, new, state.job.units, row.recipe.model_dump(mode="json"))
    edited = recipe_from_dict(raw)
    check_references(session, state.job.id, edited)
    return replace(row, recipe=edited)


def tried(state: JobResults, kind: str, texts: Mapping[str, str]) -> AlignmentText | None:
    """The alignment of a form that is being filled, solved but not stored; incomplete items at its end are ignored.

    None where no row was chosen yet. Raises InputError where not even its beginning can be worked out.
    """
    if not names_one(kind, texts):
        return None
    for some in _beginnings(texts):
        try:
            recipe = recipe_from_dict({"name": "As typed", **data_of(kind, some, state.job.units)})
            break
        except InputError as error:
            first = error
    else:
        raise first
    row = SheetRow(NOT_ON_THE_SHEET, recipe)
    found = what_if(state, [row], state.job.alignment_row_id)[row.id]
    return alignment_text_of(replace(state, results=state.results.replaced({row.id: found})), row)


def _beginnings(texts: Mapping[str, str]) -> Iterator[dict[str, str]]:
    """All that was typed, and then with one item after another off the end of its lists."""
    yield dict(texts)
    longest = next((k for k in range(MOST_STEPS, 0, -1) if any(_is_item_from(path, k) for path in texts)), 0)
    for count in range(longest, 0, -1):
        yield {path: text for path, text in texts.items() if not _is_item_from(path, count)}


def _is_item_from(path: str, count: int) -> bool:
    """A field of an item of a list, from some number on."""
    parts = path.split(".")
    return len(parts) > 2 and parts[1].isdigit() and len(parts[1]) < 4 and int(parts[1]) >= count


def _system(state: JobResults, row_id: int) -> SheetRow:
    row = state.row(row_id)
    if row.recipe.role != "system":
        raise InputError("That row is no alignment.", "Nothing was changed.", "Choose an alignment.")
    return row


def activate(actor: Actor, job_id: int, row_id: int | None) -> None:
    """Choose the coordinate system in which everything is judged; None for the instrument's own."""
    actor.must_change()
    with transaction() as session:
        row = None if row_id is None else session.get(Row, row_id)
        if row_id is not None and (
            row is None or row.job_id != job_id or row.removed_at or kind_of(row.recipe).role != "system"
        ):
            raise InputError("That row is no alignment.", "Nothing was changed.", "Choose an alignment.")
        stored(session, Job, job_id).alignment_row_id = row_id
        record(session, actor, job_id, "activate alignment", row=row_id)
        tell(session, job_id, "sheet")
