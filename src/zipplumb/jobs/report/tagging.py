"""Which rows have tags in a picture, where these point, and what they say."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.frames import Array, Indices
from ...core.pictures.camera import Camera
from ...core.pictures.drawing import Mesh, Sight
from ...core.sheet import RowResult
from ...exchange.table import RowText
from ..state.results import JobResults
from ..state.rows_text import row_texts
from ..words import words_for
from .views import Tags, named_between

MOST_PLACES = 48  # of a row, any of which its tag may point at
NEAR_MM = 0.3  # behind the surface, at the most, where it is seen
NOWHERE = (np.empty((0, 3)), False)
FOUND = ("in", "close", "out", "not proven")
URGENT = {"out": 0, "not proven": 1, "close": 2, "in": 3}


@dataclass(frozen=True, eq=False)
class Tagged:
    """A row in a picture: ``at`` (3,) its place, in the part; ``texts``: what its tag says; ``hidden``: the part is before
    it."""

    row: int
    at: Array
    texts: tuple[str, ...]
    word: str
    hidden: bool


def tagged(state: JobResults, tags: Tags, camera: Camera, sight: Sight, mesh: Mesh) -> list[Tagged]:
    """The rows of a picture, those first that are the last to be left out."""
    texts, (high, wide) = row_texts(state), sight.depth.shape
    within = NEAR_MM + 1.5 / camera.pixels_per_mm(high)
    asked = _asked(state, tags, list(texts.values()))
    found = []
    for text in sorted(asked, key=lambda text: (URGENT.get(text.word, 4), text.number)):
        places, on_surface = places_of(state, text.id)
        if not len(places):
            continue
        on_paper = camera.on_paper(places, wide, high)
        shows = sight.shows(on_paper, within, on_surface)
        if not shows.any() and len(rim := _face_of(mesh, state.row(text.id).recipe.cad_face)):
            rim_on_paper = camera.on_paper(rim, wide, high)  # a bore was touched within, where nobody sees: its rim is seen
            if (rim_shows := sight.shows(rim_on_paper, within, True)).any():
                places, on_paper, shows = rim, rim_on_paper, rim_shows
        if tags.seen and not shows.any():
            continue
        middle = on_paper[:, :2].mean(axis=0)
        some = np.flatnonzero(shows) if shows.any() else np.arange(len(places))
        nearest = some[np.argmin(np.linalg.norm(on_paper[some, :2] - middle, axis=1))]
        inside = (on_paper[nearest, :2] >= 0).all() and (on_paper[nearest, :2] < [wide, high]).all()
        if inside:
            found.append(Tagged(text.id, places[nearest], says(text, tags), text.word, not shows.any()))
    return found


def _asked(state: JobResults, tags: Tags, texts: list[RowText]) -> list[RowText]:
    if tags.rows:
        chosen = set(tags.rows)
        texts = [text for text in texts if text.id in chosen]
    if tags.first or tags.last:
        names = named_between((row.recipe.name for row in state.rows), tags.first, tags.last)
        texts = [text for text in texts if text.name in names]
    if tags.kind:
        texts = [text for text in texts if state.row(text.id).recipe.key() == tags.kind]
    if tags.word:
        texts = [text for text in texts if text.word == tags.word]
    return [text for text in texts if not text.is_system and (text.word in FOUND or text.word == "done") and text.worst]


def _face_of(mesh: Mesh, face: int | None) -> Array:
    """(n, 3) corners of a face of the CAD, so many at most; none without one."""
    corners = np.unique(mesh.triangles[mesh.faces == face]) if face is not None else np.empty(0, int)
    return mesh.positions[corners[_some(len(corners))]]


def kinds_told(state: JobResults) -> list[tuple[str, str]]:
    """The kinds of which something on the sheet can have a tag, by their words."""
    found = {row.recipe.key(): words_for(row.recipe).noun for row in state.rows if row.recipe.role != "system"}
    return sorted(found.items(), key=lambda each: each[1])


def says(text: RowText, tags: Tags) -> tuple[str, ...]:
    """What a tag says: the number that the row's word is of, and what else is wanted."""
    told = text.worst
    assert told is not None
    result = f"{text.shape} {text.word}" if text.word in FOUND else ""
    number = told.deviation if told.deviation not in ("", "held") else told.actual
    limits = told.tolerance if "limits" in tags.shows else ""
    return tuple(
        filter(None, (text.name if "name" in tags.shows else "", number, limits, result if "result" in tags.shows else ""))
    )


def places_of(state: JobResults, row_id: int) -> tuple[Array, bool]:
    """(n, 3) where a row was touched or seen, as things are drawn; of what was made or judged, where that is, else where the
    first is that it rests on; and whether these lie on the part's surface."""
    waiting, looked_at = [row_id], {row_id}  # rows may rest on one another in a circle
    while waiting:
        row = waiting.pop(0)
        own, on_surface = _own_places(state, state.results[row])
        if len(own):
            return own[_some(len(own))], on_surface
        under = [n.id for n in state.row(row).needs if n.what == "feature" and n.id in state.sheet.index]
        waiting += [i for i in under if i not in looked_at]
        looked_at.update(under)
    return NOWHERE


def _some(count: int) -> Indices:
    """Evenly, so many at most."""
    return np.unique(np.linspace(0, max(count - 1, 0), min(count, MOST_PLACES)).astype(int))


def _own_places(state: JobResults, found: RowResult) -> tuple[Array, bool]:
    if found.contacts_part is not None and len(found.contacts_part):
        return found.contacts_part, True
    if found.draw is not None and found.aligned_by is not None and len(places := found.draw.places(MOST_PLACES)):
        return places, False
    feature = found.feature
    if feature is None or feature.feature is None:
        return NOWHERE
    touched = feature.contacts if feature.contacts is not None and len(feature.contacts) else None
    places = np.asarray(feature.shape.spot[None]) if touched is None else touched
    return state.drawn_from_world.points(places), touched is not None
