"""Tolerances that a part's file carries, taken over as rows of a job; and a job's tolerances written into its model."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from sqlalchemy.orm import Session

from ...cad.callouts import Callout, Callouts, Lettered, Sized, TargetPlace
from ...cad.writer import with_callouts
from ...core.errors import InputError, PlumbError
from ...core.features import radius_of
from ...core.frames import Array
from ...core.sheet import KINDS, SheetRow, recipe_from_dict
from ...core.sheet.judged import JudgedRecipe
from ...core.sheet.toleranced.base import ToleranceRecipe
from ...core.units import length_text
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..file_pieces import OF_PARTS
from ..state.recipes import changed
from ..state.results import JobResults, load
from ..words import WORDS
from .adding import add_rows, named, surface_point, take_letter
from .lettered import datums_of, letter_of, target_of
from .on_model import firsts, kinds, rows_for, standing
from .picking import kind_for_face

NOTHING = "Nothing was planned."
ON_MM = 1e-3  # how near a target lies to its face


@dataclass(frozen=True)
class TakenOver:
    """One that the file carries, in words; ``why_not``: it cannot be taken over."""

    words: str
    faces: tuple[int, ...]
    why_not: str = ""


def carried(job: Job) -> Callouts:
    return Callouts.from_data(job.part.callouts)


def told_of(state: JobResults) -> list[TakenOver]:
    """All that the part's file carries, as it would be planned."""
    job, found = state.job, carried(state.job)
    letters, there = {*_letters(state), *_new_letters(found, state)}, _on_the_sheet(state)
    letters |= {target.letter for target in found.targets}
    return [TakenOver(_words(c, state), c.faces, _why_not(c, found, job.part.faces, letters, there)) for c in found.tolerances]


def _letters(state: JobResults) -> dict[str, tuple[int, ...]]:
    return datums_of((row.id, row.recipe) for row in state.rows)


def _new_targets(found: Callouts, letters: Collection[str]) -> list[TargetPlace]:
    """The datum targets of the file whose datum is on no row yet."""
    return [target for target in found.targets if target.letter not in letters]


def _new_letters(found: Callouts, state: JobResults) -> dict[str, int]:
    """The faces of the file's datums that are on no row yet and can be measured."""
    faces, there = state.job.part.faces, _letters(state)
    by_targets = {target.letter for target in found.targets}
    new = [datum for datum in found.datums if datum.letter not in {*there, *by_targets} and datum.faces]
    return {datum.letter: firsts(datum.faces, faces)[0] for datum in new if kind_for_face(faces[datum.faces[0]]) is not None}


def _on_the_sheet(state: JobResults) -> set[tuple[str, float, frozenset[int]]]:
    """The tolerances that stand already, by kind, zone and faces."""
    found = [cast(ToleranceRecipe, row.recipe) for row in state.rows if _has_zone(row)]
    return {(t.key(), t.zone_mm, frozenset(faces_under(state, t.of))) for t in found}


def _has_zone(row: SheetRow) -> bool:
    kind = KINDS[row.recipe.key()]
    return issubclass(kind, JudgedRecipe) and kind.takes_zone


def _words(callout: Callout, state: JobResults) -> str:
    noun = WORDS[callout.kind].noun.capitalize()
    datums = ", ".join("-".join(group) for group in callout.datums)
    called = f"{callout.name}: " if callout.name else ""
    more = {"none": "", "maximum": ", at maximum material", "least": ", at least material"}[callout.condition]
    return f"{called}{noun} {length_text(callout.zone_mm, state.job.units)}{more}{f' to {datums}' if datums else ''}"


def _why_not(
    callout: Callout, found: Callouts, faces: Sequence[Mapping[str, Any]], letters: Collection[str], there: Collection[Any]
) -> str:
    missing = [letter for group in callout.datums for letter in group if letter not in letters]
    free = [faces[i]["surface"] for i in callout.faces if kind_for_face(faces[i]) is None]
    if callout.kind not in dict(kinds()):
        return "What more it needs is not in the file. Put it on from the form on Derive."
    if free:
        return f"A face of it is a {free[0]}. Plan places on it, and judge these on Derive."
    flat = {d.letter for d in found.datums if d.faces and faces[d.faces[0]]["surface"] == "plane"}
    pairs = zip(callout.datums, callout.boundaries, strict=False)
    if sizeless := [letter for group, at in pairs if at != "none" for letter in group if letter in flat]:
        return f"Its datum {sizeless[0]} is flat and has no size, so it has no material boundary."
    if missing:
        return f"Its datum {missing[0]} is on no face of the file that can be measured."
    if (callout.kind, callout.zone_mm, frozenset(firsts(callout.faces, faces))) in there:
        return "It is on the sheet."
    if _kind(callout).round_zone and not callout.round and any(faces[i]["surface"] != "plane" for i in callout.faces):
        return "Its zone lies between two planes, and which is not in the file. Put it on from the form on Derive."
    try:
        recipe_from_dict({"name": "?", **_raw(callout, [1], [[2] * len(group) for group in callout.datums])})
    except PlumbError as error:
        return str(error)
    return ""


def _kind(callout: Callout) -> type[ToleranceRecipe]:
    return cast(type[ToleranceRecipe], KINDS[callout.kind])


def _raw(callout: Callout, of: Sequence[int], datums: Sequence[Sequence[int]]) -> dict[str, Any]:
    kind = _kind(callout)
    boundaries = callout.boundaries or ("none",) * len(datums)
    raw = kind.with_material(kind.on(of, datums), callout.condition, boundaries)
    return {**raw, "zone_mm": callout.zone_mm, **({"name": callout.name} if callout.name else {})}


def take_over(actor: Actor, job_id: int) -> int:
    """All that can be taken over, in one act: rows for the faces with their letters and limits, and the tolerances.

    Returns how many tolerances. Raises InputError where there is none; then nothing is planned.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        found, faces, letters = carried(job), job.part.faces, _letters(state)
        new, there = _new_letters(found, state), _on_the_sheet(state)
        places = _new_targets(found, letters)
        known = {*letters, *new, *(target.letter for target in places)}
        wanted = [c for c in found.tolerances if not _why_not(c, found, faces, known, there)]
        if not wanted:
            raise InputError("The file carries no tolerance that could be planned.", NOTHING, "Put them on by hand.")
        sizes = {face: sized for sized in found.sizes for face in firsts(sized.faces, faces)}
        needed = [*new.values(), *(f for c in wanted for f in firsts(c.faces, faces))]
        limits = {face: _limits(sized) for face, sized in sizes.items()}
        of_face, act = rows_for(session, actor, job, standing(session, job), needed, limits)
        for letter, face in new.items():
            letters[letter] = (_give(session, actor, job, of_face[face], letter),)
        if places:
            planned = add_rows(session, actor, job_id, [recipe_from_dict(_raw_target(target)) for target in places], act)
            act = act or stored(session, Row, planned[0]).planned_by
            for target, row_id in zip(places, planned, strict=True):
                letters[target.letter] = (*letters.get(target.letter, ()), row_id)
        groups = [[[row for one in group for row in letters[one]] for group in c.datums] for c in wanted]
        raws = [_raw(c, [of_face[f] for f in firsts(c.faces, faces)], told) for c, told in zip(wanted, groups, strict=True)]
        add_rows(session, actor, job_id, named(session, job_id, raws), act)
        return len(raws)


def _raw_target(target: TargetPlace) -> dict[str, Any]:
    """A place to be touched three times: a target may lie on what is square to nothing."""
    return surface_point(target.at, target.normal, name=target.name, hits=3)


def _limits(sized: Sized) -> dict[str, Any]:
    """The ``asked`` of a row: its diameter with limits."""
    return {"asked": [{"key": "diameter", "lower": sized.lower_mm, "upper": sized.upper_mm}]}


def _give(session: Session, actor: Actor, job: Job, row_id: int, letter: str) -> int:
    """A datum letter for a row that has none. Raises InputError where it has another."""
    row = stored(session, Row, row_id)
    if row.recipe.get("datum") not in (None, letter):
        name, other = row.recipe["name"], row.recipe["datum"]
        raise InputError(
            f"{name} is datum {other}, in the file {letter}.", NOTHING, "Give it the file's letter, or take it off."
        )
    take_letter(session, job.id, row_id, letter)
    before = changed(row, datum=letter)
    record(session, actor, job.id, "edit", row=row_id, before=before, after=row.recipe)
    tell(session, job.id, "sheet")
    session.flush()
    return row_id


# ---- out again -----------------------------------------------------------------------------


def model_with_tolerances(session: Session, state: JobResults) -> bytes:
    """The part's STEP file with the job's tolerances on its faces (AP242). Raises PlumbError."""
    part = state.job.part
    if not part.file_name.lower().endswith((".step", ".stp")):
        raise InputError("The part is no STEP file.", "The job is untouched.", "Take the tolerances as a table instead.")
    return with_callouts(OF_PARTS.of(session, part.id), callouts_of(state))


def callouts_of(state: JobResults) -> Callouts:
    """The job's tolerances on faces, their datums by letter, and the limits of diameters. Raises InputError without any."""
    tolerances = [t for row in state.rows if (t := _callout(state, row)) is not None]
    if not tolerances:
        raise InputError(
            "No tolerance of this job is on faces of the model, with lettered datums.", "The job is untouched.",
            "Put one on a face, and letters on its datums.",
        )  # fmt: skip
    lettered = [Lettered(r.recipe.datum_letter, faces_under(state, [r.id])) for r in state.rows if r.recipe.datum_letter]
    named_in = {letter for t in tolerances for group in t.datums for letter in group}
    targets = [target for row in state.rows if (target := _target(state, row)) is not None and target.letter in named_in]
    held = {face for t in tolerances for face in t.faces}
    sizes = [size for row in state.rows if row.recipe.cad_face in held and (size := _size(state, row)) is not None]
    lettered = [datum for datum in lettered if datum.faces]
    return Callouts(tuple(tolerances), tuple(lettered), tuple(sizes), targets=tuple(targets))


def _target(state: JobResults, row: SheetRow) -> TargetPlace | None:
    """A row as the datum target that it is, with the plane faces that it lies on."""
    told, plane = target_of(row.recipe), row.recipe.should_be
    if told is None:
        return None
    at, normal = plane.point, plane.normal
    on = [face["index"] for face in state.job.part.faces if _lies_on(face, at, normal)]
    return TargetPlace(*told, tuple(at.tolist()), tuple(normal.tolist()), tuple(on[:1]))


def _lies_on(face: Mapping[str, Any], at: Array, normal: Array) -> bool:
    nominal = face["nominal"]
    if not nominal or nominal["shape"] != "plane":
        return False
    box, way = np.array(face["box"]), np.array(nominal["normal"])
    inside = np.all(at > box[:3] - ON_MM) and np.all(at < box[3:] + ON_MM)
    return bool(inside and abs((at - nominal["point"]) @ way) < ON_MM and way @ normal > 1 - ON_MM)


def _callout(state: JobResults, row: SheetRow) -> Callout | None:
    """A row as the file has it; None where it is no tolerance, not on faces, or refers to a datum that has no letter."""
    recipe = row.recipe
    if not _has_zone(row):
        return None
    tolerance = cast(ToleranceRecipe, recipe)
    faces = faces_under(state, tolerance.of)
    groups = [list(dict.fromkeys(letter_of(state.row(i).recipe) for i in group)) for group in tolerance.in_order]
    if len(faces) < len(tolerance.of) or not all(letter for group in groups for letter in group):
        return None
    condition, boundaries = tolerance.material
    told = recipe.kind, tolerance.zone_mm, faces, tuple(map(tuple, groups)), condition, boundaries, recipe.name
    surfaces = {state.job.part.faces[face]["surface"] for face in faces}
    return Callout(*told, round=tolerance.round_zone and "plane" not in surfaces)


def faces_under(state: JobResults, rows: Sequence[int]) -> tuple[int, ...]:
    """The faces of the CAD that some rows are planned on."""
    return tuple(face for i in rows if (face := state.row(i).recipe.cad_face) is not None)


def _size(state: JobResults, row: SheetRow) -> Sized | None:
    limits = next((a for a in row.recipe.asked if a.key == "diameter"), None)
    radius, face = radius_of(row.recipe.should_be), row.recipe.cad_face
    if limits is None or limits.lower is None or limits.upper is None or not radius or face is None:
        return None
    return Sized((face,), 2 * radius, limits.lower, limits.upper)
