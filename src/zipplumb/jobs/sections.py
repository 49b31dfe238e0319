"""Section curves: where a plane across the part's axes cuts chosen faces, seen first and then planned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.sections import Section
from ..core.shape_codec import shape_to_data
from ..core.units import Units, length_from_text
from ..store.database import stored, transaction
from ..store.models import Job
from .actor import Actor
from .part_model import model_of
from .planning import add_rows, checked_stem, named

AXES = "XYZ"
MOST_FACES, MOST_TARGETS = 200, 2000


@dataclass(frozen=True, eq=False)
class Asked:
    """``faces`` of the part; ``axis``: the plane's normal, 0 to 2; ``at_mm``: where on it; ``every_mm``: between targets."""

    faces: tuple[int, ...]
    axis: int
    at_mm: float
    every_mm: float

    @classmethod
    def typed(cls, faces: Sequence[int], texts: Mapping[str, str], units: Units) -> Asked:
        """Raises InputError naming the field that does not hold."""
        across = texts.get("across", "")
        if across not in AXES or not across:
            raise InputError("The plane stands across X, Y or Z.", "Nothing was planned.", "Choose one of them.")
        if not 0 < len(set(faces)) <= MOST_FACES:
            raise InputError(f"A section goes over 1 to {MOST_FACES} faces.", "Nothing was planned.", "Pick them again.")
        at = length_from_text(texts.get("at", ""), units, "the place of the plane")
        every = length_from_text(texts.get("every", ""), units, "the distance between targets")
        if every < 0.01:
            raise InputError("The targets lie on one another.", "Nothing was planned.", "Type a larger distance.")
        return cls(tuple(dict.fromkeys(faces)), AXES.index(across), at, every)


def sections_of(session: Session, job_id: int, asked: Asked) -> list[Section]:
    """The curves, the longest first. Raises InputError."""
    from ..cad.section import cut  # heavy, and seldom asked for

    part = stored(session, Job, job_id).part
    model = model_of(part)
    if model is None or not all(0 <= face < len(part.faces) for face in asked.faces):
        raise InputError("One of these faces is not on this part.", "Nothing was planned.", "Pick them again.")
    across = np.eye(3)[asked.axis]
    found = cut(model, asked.faces, asked.at_mm * across, across)
    if sum(section.length for section in found) / asked.every_mm > MOST_TARGETS:
        raise InputError(
            f"That would be more than {MOST_TARGETS} targets.", "Nothing was planned.", "Type a larger distance between them."
        )
    return found


def plan_sections(actor: Actor, job_id: int, asked: Asked, stem: str = "") -> list[int]:
    """A row for each curve, in one act. Returns their ids."""
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        raws = [
            {"kind": "section_curve", "nominal": shape_to_data(section), "every_mm": asked.every_mm}
            for section in sections_of(session, job_id, asked)
        ]
        return add_rows(session, actor, job_id, named(session, job_id, raws, stem))
