"""Rows and faces found by what they are called."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ...core.features import spot_of
from ...core.shape_codec import shape_from_data
from ...core.units import Units, length_text
from ...exchange.table import RowText
from ...jobs.plan.picking import kind_for_face
from ...jobs.state.results import JobResults
from ...jobs.state.rows_text import row_texts
from .face_words import face_words

MOST_WORDS = 80  # letters that are looked for


@dataclass(frozen=True)
class FoundFace:
    index: int
    body: int
    words: str
    place: str


def found(state: JobResults, words: str) -> tuple[list[RowText], list[FoundFace]]:
    """Those whose name, kind or size has all the words."""
    asked = words[:MOST_WORDS].lower().split()
    rows = [row for row in row_texts(state).values() if _has(asked, f"{row.number} {row.name} {row.kind} {row.datum}")]
    kept = state.job.kept_bodies
    faces = (face for face in _faces(state) if kept is None or face.body in kept)
    return rows, [face for face in faces if _has(asked, f"{face.words} {face.place}")]


def _faces(state: JobResults) -> list[FoundFace]:
    """All faces of the part in the job's units; their words are made once, not at each letter that is typed."""
    units = state.job.units
    by_units = state.remembered.setdefault("faces in words", {})
    if units not in by_units:
        by_units[units] = [_face(face, units) for face in state.job.part.faces]
    return by_units[units]


def _has(asked: list[str], text: str) -> bool:
    low = text.lower()
    return all(word in low for word in asked)


def _face(face: dict[str, Any], units: Units) -> FoundFace:
    kind = kind_for_face(face)
    if kind is None:
        return FoundFace(face["index"], face["body"], f"A {face['surface']}", "")
    shape = shape_from_data(face["nominal"])
    place = ", ".join(f"{a} {length_text(v, units)}" for a, v in zip("XYZ", spot_of(shape), strict=True))
    return FoundFace(face["index"], face["body"], face_words(shape, kind.key(), bool(face["inside"]), units), place)
