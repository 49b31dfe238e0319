"""Section curves: where a plane cuts chosen faces, seen first and then planned; or through the points of a list."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import Array, cross, unit
from ...core.sections import Section
from ...core.shape_codec import shape_to_data
from ...core.units import Units, length_from_text, mm, number_from_text
from ...store.database import stored, transaction
from ...store.models import Job
from ..actor import Actor
from ..state.part_model import model_of
from .adding import add_rows, checked_stem, named
from .listing import whole_list

AXES, OTHER = "XYZ", "other"
IN_PLANE_MM = 0.01  # how far a listed point of a curve lies off its plane at the most
MOST_FACES, MOST_TARGETS = 200, 2000


@dataclass(frozen=True, eq=False)
class SectionAsked:
    """``faces`` of the part; ``across`` (3,): the plane's normal; ``at_mm``: how far along it from the part's zero;
    ``every_mm``: between targets."""

    faces: tuple[int, ...]
    across: Array
    at_mm: float
    every_mm: float

    @classmethod
    def typed(cls, faces: Sequence[int], texts: Mapping[str, str], units: Units) -> SectionAsked:
        """Raises InputError naming the field that does not hold."""
        across = _direction(texts)
        if not 0 < len(set(faces)) <= MOST_FACES:
            raise InputError(f"A section goes over 1 to {MOST_FACES} faces.", "Nothing was planned.", "Pick them again.")
        if not texts.get("at", "").strip() and texts.get("through", "").strip():
            places = [number_from_text(text, "the place picked") for text in texts["through"].split(",")]
            if len(places) != 3:
                raise InputError("The place picked is three numbers.", "Nothing was planned.", "Pick it again.")
            at = float(across @ places)
        else:
            at = length_from_text(texts.get("at", ""), units, "the place of the plane")
        return cls(tuple(dict.fromkeys(faces)), across, at, _every(texts, units))


def _direction(texts: Mapping[str, str]) -> Array:
    """(3,) across the plane. Raises InputError."""
    across = texts.get("across", "")
    if across and across in AXES:
        return np.asarray(np.eye(3)[AXES.index(across)])
    if across != OTHER:
        raise InputError("The plane stands across X, Y, Z or a typed direction.", "Nothing was planned.", "Choose one of them.")
    typed = np.array([number_from_text(texts.get(k, "") or "0", f"{k.upper()} of the direction") for k in "ijk"])
    if not np.linalg.norm(typed) > 1e-6:
        raise InputError(
            "The direction across the plane is nothing.", "Nothing was planned.", "Type I, J and K, such as 1, 0, 1."
        )
    return np.asarray(unit(typed))


def _every(texts: Mapping[str, str], units: Units) -> float:
    every = length_from_text(texts.get("every", ""), units, "the distance between targets")
    if every < 0.01:
        raise InputError("The targets lie on one another.", "Nothing was planned.", "Type a larger distance.")
    return every


def sections_of(session: Session, job_id: int, asked: SectionAsked) -> list[Section]:
    """The curves, the longest first. Raises InputError."""
    from ...cad.section import cut  # heavy, and seldom asked for

    part = stored(session, Job, job_id).part
    model = model_of(part)
    if model is None or not all(0 <= face < len(part.faces) for face in asked.faces):
        raise InputError("One of these faces is not on this part.", "Nothing was planned.", "Pick them again.")
    found = cut(model, asked.faces, asked.at_mm * asked.across, asked.across)
    _few_enough(found, asked.every_mm)
    return found


def _few_enough(found: Sequence[Section], every_mm: float) -> None:
    if sum(section.length for section in found) / every_mm > MOST_TARGETS:
        raise InputError(
            f"That would be more than {MOST_TARGETS} targets.", "Nothing was planned.", "Type a larger distance between them."
        )


def plan_sections(actor: Actor, job_id: int, asked: SectionAsked, stem: str = "") -> list[int]:
    """A row for each curve, in one act. Returns their ids."""
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        raws = [
            {"kind": "section_curve", "nominal": shape_to_data(section), "every_mm": asked.every_mm}
            for section in sections_of(session, job_id, asked)
        ]
        return add_rows(session, actor, job_id, named(session, job_id, raws, stem))


def curve_through(points: Array, normals: Array) -> Section:
    """Through listed points (n, 3) in their order; the plane is the one that they lie in. Raises InputError."""
    middle = points.mean(axis=0)
    _, sizes, axes = np.linalg.svd(points - middle, full_matrices=False)
    straight = len(points) < 3 or sizes[1] < IN_PLANE_MM
    across = cross(axes[0], normals.mean(axis=0)) if straight else axes[2]
    if not np.linalg.norm(across) > 1e-3:
        raise InputError(
            "The listed points lie on one line, along their own direction.", "Nothing was planned.", "Look at I, J and K."
        )
    across = unit(across)
    off = np.abs((points - middle) @ across)
    if off.max() > IN_PLANE_MM:
        beside = mm(float(off.max()))
        raise InputError(
            f"A section curve lies in a plane, and point {int(off.argmax()) + 1} of the list is {beside} beside it.",
            "Nothing was planned.",
            "Mend the list, or plan its points one by one.",
        )
    try:
        return Section(points - ((points - middle) @ across)[:, None] * across, normals, across)
    except ValueError as error:
        raise InputError(f"These points make no curve: {error}.", "Nothing was planned.", "Look at the list.") from error


def plan_listed_curve(actor: Actor, job_id: int, text: str, units: str, texts: Mapping[str, str]) -> list[int]:
    """One row, a section curve through the points of a list, whose lines all tell the direction out of the material."""
    actor.must_change()
    stem = checked_stem(texts.get("stem", ""))
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        found = whole_list(session, job_id, text, units)
        bare = next((p for p in found if p.normal is None), None)
        if bare is not None or len(found) < 2:
            words = f"Line {bare.line} tells no direction" if bare else "There is one point only"
            raise InputError(
                f"{words}, and a curve wants two points or more, each with I, J, K.", "Nothing was planned.", "Mend the list."
            )
        section = curve_through(np.array([p.at for p in found]), unit(np.array([p.normal for p in found])))
        every = _every(texts, job.units)
        _few_enough([section], every)
        raw = {"kind": "section_curve", "nominal": shape_to_data(section), "every_mm": every}
        return add_rows(session, actor, job_id, named(session, job_id, [raw], stem))
