"""Tolerances put on faces of the model: what has to be measured for them is planned with them, in one act."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.fitting import RECOMMENDED
from ...core.sheet import KINDS
from ...core.sheet.toleranced.base import ToleranceRecipe
from ...store.database import stored, transaction
from ...store.models import Job, Row
from ..actor import Actor
from ..state.recipes import recipe_of
from ..state.results import JobResults
from ..words import WORDS
from .adding import add_rows, named
from .alike import things
from .lettered import datums_of
from .picking import alike_on, faces_of, kind_for_face

SAME_WAY = 1e-6
MOST_FACES = 60
GIVEN = {"kind", "name", "of", "zone_mm", "to_datum"}  # all that a tolerance put on a face can be told
KEPT = "Nothing was planned."
NOTHING_MORE: Mapping[int, Mapping[str, Any]] = {}


@dataclass(frozen=True)
class Wanted:
    """A tolerance as the drawing has it. ``datums``: letters in their order, as "A, B, C", or "A-B" for a common datum."""

    kind: str
    zone_mm: float
    datums: str = ""
    name: str = ""
    note: str = ""


def kinds() -> list[tuple[str, str]]:
    """Kinds of tolerances that can be put on faces, by their words."""
    there = {
        key: kind for key, kind in KINDS.items()
        if issubclass(kind, ToleranceRecipe) and {n for n, f in kind.model_fields.items() if f.is_required()} <= GIVEN
    }  # fmt: skip
    return sorted(((key, WORDS[key].noun) for key in there), key=lambda pair: pair[1])


def facing_alike(faces: Sequence[Mapping[str, Any]], index: int, bodies: Sequence[int] | None) -> tuple[int, ...]:
    """The plane faces that face the same way as one, that one first; itself alone where it is no plane."""
    picked = faces[index]
    if not picked["nominal"] or picked["nominal"]["shape"] != "plane":
        return (index,)
    normal = np.array(picked["nominal"]["normal"])
    same = [
        f["index"] for f in faces
        if (bodies is None or f["body"] in bodies) and f["nominal"] and f["nominal"]["shape"] == "plane"
        and float(np.abs(np.array(f["nominal"]["normal"]) - normal).max()) < SAME_WAY
    ]  # fmt: skip
    return (index, *(i for i in same if i != index))


def put(actor: Actor, job_id: int, faces: Sequence[int], wanted: Wanted) -> int:
    """A tolerance on some faces, as one row; a row for each face that has none yet. Returns its id.

    Raises InputError where it is not for such faces, or a datum is not on the sheet; then nothing is planned.
    """
    actor.must_change()
    kind = KINDS.get(wanted.kind)
    if kind is None or wanted.kind not in dict(kinds()):
        raise InputError("That is no tolerance of a face.", KEPT, "Choose one of the list.")
    if not faces or len(faces) > MOST_FACES:
        raise InputError(f"One tolerance holds 1 to {MOST_FACES} faces.", KEPT, "Choose fewer.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        there = standing(session, job)
        known = datums_of((row.id, recipe_of(row)) for row in there)
        datums = [[row for letter in group for row in _lettered(known, letter)] for group in letters_of(wanted.datums)]
        faces = firsts(faces, faces_of(session, job_id, faces[0]))
        of_face, act = rows_for(session, actor, job, there, faces)
        raw = cast(type[ToleranceRecipe], kind).on([of_face[face] for face in faces], datums)
        told = {"zone_mm": wanted.zone_mm, "note": wanted.note, **({"name": wanted.name} if wanted.name else {})}
        return add_rows(session, actor, job_id, named(session, job_id, [{**raw, **told}]), act)[0]


def standing(session: Session, job: Job) -> list[Row]:
    """The rows on the sheet, in order."""
    return list(session.scalars(select(Row).where(Row.job_id == job.id, Row.removed_at.is_(None)).order_by(Row.position)))


def letters_of(text: str) -> list[list[str]]:
    """Datums in their order, each of one letter or of several that are one datum together. Raises InputError."""
    found = []
    for group in re.split(r"[,;|\s]+", text.strip()) if text.strip() else []:
        letters = re.split(r"[-–]", group.upper())
        if any(not re.fullmatch("[A-Z]", letter) for letter in letters):
            raise InputError(f"“{group[:20]}” is no datum.", KEPT, "Type letters in their order, as A, B, C or A-B.")
        found.append(letters)
    return found


def _lettered(known: Mapping[str, tuple[int, ...]], letter: str) -> tuple[int, ...]:
    if letter not in known:
        raise InputError(
            f"There is no datum {letter} on the sheet.", KEPT,
            f"Pick its face, plan a row from it and give it the letter; or plan places on it, called {letter}.",
        )  # fmt: skip
    return known[letter]


def firsts(held: Sequence[int], faces: Sequence[Mapping[str, Any]]) -> list[int]:
    """A face of each thing: the halves of one bore are one."""
    return [thing[0]["index"] for thing in things([faces[i] for i in dict.fromkeys(held)])]


def rows_for(
    session: Session,
    actor: Actor,
    job: Job,
    there: Sequence[Row],
    faces: Sequence[int],
    more: Mapping[int, Mapping[str, Any]] = NOTHING_MORE,
) -> tuple[dict[int, int], int | None]:
    """A row for each face, planned with as many hits as show a form where there is none yet; and the act of that.

    ``more``: what of a face is to be in the row that is planned for it.
    """
    every = faces_of(session, job.id, faces[0]) if faces else []
    by_face: dict[int, int] = {}
    for row in there:
        if (face := row.recipe.get("face")) is not None:
            by_face.setdefault(face, row.id)
    for thing in things(every):  # a row of one half of a bore is of the whole of it
        if known := [by_face[f["index"]] for f in thing if f["index"] in by_face]:
            by_face |= {f["index"]: known[0] for f in thing if f["index"] not in by_face}
    missing = [face for face in dict.fromkeys(faces) if face not in by_face]
    act = None
    if missing:
        raws = [{**_raw(every[face]), **more.get(face, {})} for face in missing]
        planned = add_rows(session, actor, job.id, named(session, job.id, raws))
        by_face |= dict(zip(missing, planned, strict=True))
        act = stored(session, Row, planned[0]).planned_by
    return by_face, act


def _raw(face: Mapping[str, Any]) -> dict[str, Any]:
    kind = kind_for_face(face)
    if kind is None:
        raise InputError(
            f"A face among them is a {face['surface']}.", KEPT, "Plan places on it, or a section, and judge these on Derive."
        )
    raw = kind.of_face(face["index"], face["nominal"], bool(face["inside"]))
    return {**raw, "hits": RECOMMENDED[kind.fits]}


def holding(state: JobResults, face: int) -> list[int]:
    """The rows of tolerances that hold a face."""
    mine = {row.id for row in state.rows if row.recipe.cad_face == face}
    judging = (row for row in state.rows if row.recipe.role == "tolerance")
    return [row.id for row in judging if mine.intersection(cast(ToleranceRecipe, row.recipe).of)]


def alike_faces(session: Session, job_id: int, index: int, on: str) -> tuple[int, ...]:
    """The faces that a person means by one: it alone, all alike, or all that face the same way."""
    job = stored(session, Job, job_id)
    faces = faces_of(session, job_id, index)
    if on == "alike":
        return tuple(alike_on(session, job_id, index)) or (index,)
    return facing_alike(faces, index, job.kept_bodies) if on == "facing" else (index,)
