"""What is lacking while one scans: how much of each planned face light has seen, and from where the rest would be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from threading import Lock

import numpy as np
from sqlalchemy.orm import Session

from ...core.cloud.lacking import Coverage, FaceSeen
from ...core.frames import Array
from ...core.sheet import SheetRow
from ...core.spots import spots_on
from ...core.units import Units, length_text
from ..state.part_model import model_of
from ..state.results import JobResults
from .clouds import cloud_of, light_since, may_take

SPOTS, REACH = 200, 0.75  # on a face, and of what lies between them
APART_MM = 0.06  # common practice: more than arm and scanner differ from pass to pass
OVER_MM = 0.3  # over the face, so that it does not sink in
FLAT = 0.7  # of a way out along X: no stroke is laid across it
AXES = ("X", "Y", "Z")
AT_ONCE = Lock()


@dataclass(frozen=True, eq=False)
class Lacking:
    """``words``: the worst, and what would help; ``enough`` of how many rows ``of``; ``hatch`` (k, 2, 3): strokes on the part
    where it is not seen, mm."""

    words: str
    enough: int
    of: int
    hatch: Array


NOTHING = Lacking("", 0, 0, np.empty((0, 2, 3)))


def lacking_of(session: Session, state: JobResults, scan_id: int) -> Lacking:
    """Of the rows that are planned on faces and not measured yet, in the active alignment. Raises InputError for no scan."""
    lines, able = cloud_of(state, scan_id).lines, set(may_take(state))
    rows = {r.recipe.cad_face: r for r in state.measured if r.id in able and r.recipe.cad_face is not None and not r.finished}
    if state.alignment is None or not rows:
        return NOTHING
    with AT_ONCE:
        coverage, strokes = _coverage(session, state, scan_id, lines, tuple(sorted(rows)))
        each, hatch = coverage.of_faces(), strokes[~coverage.seen]
    enough = sum(one.enough for one in each)
    if enough == len(each):
        words = f"All {len(each)} rows have enough: finish." if len(each) > 1 else "It has enough: finish."
    else:
        worst = next(one for one in each if not one.enough)
        words = f"{rows[worst.face].recipe.name}: {_words(worst)} {enough} of {len(each)} rows have enough."
    said = [_apart(rows, each, state.job.units), words, _once(rows, each) if enough == len(each) else ""]
    return Lacking(" ".join(filter(None, said)), enough, len(each), hatch)


def _apart(rows: Mapping[int, SheetRow], each: list[FaceSeen], units: Units) -> str:
    """What shows a calibration that is wrong, or a part that moved."""
    worst = max(each, key=lambda one: one.apart_mm)
    if worst.apart_mm <= APART_MM:
        return ""
    apart = f"{length_text(worst.apart_mm, units)} {units}"
    return f"{rows[worst.face].recipe.name}: two passes lie {apart} apart: the scanner's calibration, or something moved."


def _once(rows: Mapping[int, SheetRow], each: list[FaceSeen]) -> str:
    names = [rows[one.face].recipe.name for one in each if one.once]
    if not names:
        return ""
    more = f" and {len(names) - 1} more" if len(names) > 1 else ""
    return f"In one pass only: {names[0]}{more}."


def _words(one: FaceSeen) -> str:
    said = f"{100 * one.share:.0f} % seen"
    if one.steep > 1 - one.share - one.steep:
        return f"{said}, the rest too steeply: tilt the light."
    if one.thin > 1 - one.share - one.thin:
        return f"{said}, the rest too thinly: pass more slowly."
    if one.toward is None:
        return f"{said}."
    k = int(np.argmax(np.abs(one.toward)))
    return f"{said}, nothing from {'−' if one.toward[k] < 0 else '+'}{AXES[k]}: tilt that way."


def _strokes(coverage: Coverage) -> Array:
    """A slanting stroke at each place (s, 2, 3)."""
    aside = np.where(np.abs(coverage.outward[:, :1]) < FLAT, [[1.0, 0, 0]], [[0, 1.0, 0]])
    u = np.cross(coverage.outward, aside)
    u /= np.linalg.norm(u, axis=1, keepdims=True)
    way = (u + np.cross(coverage.outward, u)) / np.sqrt(2) * coverage.reach_mm[:, None] / REACH / 2
    places = coverage.spots + OVER_MM * coverage.outward
    return np.stack([places - way, places + way], axis=1)


def _coverage(session: Session, state: JobResults, scan_id: int, lines: int, faces: tuple[int, ...]) -> tuple[Coverage, Array]:
    """And the strokes of its places. Kept with the job, as only what is new is looked at; anew where light was taken back, or
    the part lies otherwise."""
    key = scan_id, faces, id(state.alignment)
    kept = state.remembered.get("lacking")
    if kept is None or kept[0] != key or kept[3] > lines:
        blank = _blank(state, faces)
        kept = key, (blank, _strokes(blank)), 0, 0, state.alignment
    (coverage, strokes), last = kept[1], kept[2]
    for reading_id, of_pass, light in light_since(session, state, scan_id, last):
        last = reading_id
        if light is not None:
            here = state.alignment.part_from_world  # type: ignore[union-attr]
            coverage.take(here.points(light.points), here.vectors(light.ways), of_pass)
    state.remembered["lacking"] = key, (coverage, strokes), last, lines, state.alignment
    return coverage, strokes


def _blank(state: JobResults, faces: tuple[int, ...]) -> Coverage:
    model = model_of(state.job.part)
    assert model is not None  # a face of it is planned
    each = []
    for face in faces:
        corners, normals = model.mesh_of(face)
        spots, outward = spots_on(corners, normals, count=SPOTS, seed=face)
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
        reach = np.full(len(spots), REACH * np.sqrt(area / max(len(spots), 1)))
        each.append((spots, outward, np.full(len(spots), face), reach))
    return Coverage(*(np.concatenate(parts) for parts in zip(*each, strict=True)))
