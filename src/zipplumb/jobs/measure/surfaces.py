"""The surface that a scan has where a person points at it: seen first, then made a row."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from sqlalchemy.orm import Session

from ...core.cloud.growing import GrownSurface, surfaces_at
from ...core.errors import InputError
from ...core.fingerprints import fingerprint
from ...core.frames import Array
from ...core.shape_codec import shape_from_data, shape_to_data
from ...core.sheet import kind_of, recipe_from_dict
from ...core.sheet.bases.measured import MeasuredRecipe
from ...core.units import Units, count_text, length_text, quantity_text
from ...store.database import stored, transaction
from ...store.models import Job, Row
from ..actor import Actor
from ..plan.adding import add_rows, checked_stem, named
from ..state.results import JobResults, load
from ..words import words_for
from .clouds import cloud_of, scan_row

PLANNED_MM, MOSTLY, COMPARED = 1.0, 0.9, 200  # a surface of the CAD that most of so many points lie so near to is that one
FARTHEST_MM = 20.0  # from a scan's points: what is pointed at lies on one of them


@dataclass(frozen=True, eq=False)
class FoundSurfaces:
    """``each``: what may be there, the likeliest first; ``at``: the place in the world; ``seen`` names what a person saw."""

    each: list[GrownSurface]
    at: Array
    seen: str
    points: Array

    def raw(self, surface: GrownSurface, scan_id: int) -> dict[str, Any]:
        """Plain data of its row."""
        seen_at = shape_to_data(surface.shape)
        raw = {"kind": surface.kind, "seen_at": seen_at, "pointed_at": self.at.tolist(), "scans": [scan_id]}
        return raw | ({"inside": surface.inside} if "inside" in kind_of(raw).model_fields else {})

    def planned(self, state: JobResults, surface: GrownSurface) -> dict[str, Any] | None:
        """As stored, the CAD's surface that lies there, where the part is aligned; None where none does."""
        if state.alignment is None:
            return None
        mine = surface.members[:: max(1, len(surface.members) // COMPARED)]
        places = state.alignment.part_from_world.points(self.points[mine])
        best, found = PLANNED_MM, None
        for face in state.job.part.faces:
            if not face["nominal"] or face["nominal"]["shape"] != surface.kind or face["inside"] is (not surface.inside):
                continue
            low, high = np.array(face["box"][:3]) - PLANNED_MM, np.array(face["box"][3:]) + PLANNED_MM
            if np.mean(np.all((places >= low) & (places <= high), axis=1)) < MOSTLY:
                continue
            off = float(np.mean(np.abs(shape_from_data(face["nominal"]).distance(places))))
            if off < best:
                best, found = off, face["nominal"]
        return found


def find(state: JobResults, scan_id: int, place: Array) -> FoundSurfaces:
    """At a place (3,) as it is drawn: in the part where that is aligned, else in the world."""
    cloud = cloud_of(state, scan_id)
    if not len(cloud.points):
        words = "Only its edges count." if len(cloud.edges) else "The scan has no points yet."
        what_to_do = "Let all of it count." if len(cloud.edges) else "Finish it, and wait until it is worked out."
        raise InputError(words, "Nothing was planned.", what_to_do)
    at = state.drawn_from_world.inverse().points(place[None])[0]
    far, nearest = cloud.points.tree.query(at)
    if far > FARTHEST_MM:
        raise InputError("Nothing was scanned there.", "Nothing was planned.", "Click on points of the scan.")
    at = cloud.points.points[nearest]
    return FoundSurfaces(surfaces_at(cloud.points, at), at, fingerprint(cloud.key, str(np.round(at, 6))), cloud.points.points)


def plan(actor: Actor, job_id: int, scan_id: int, place: Array, kind: str, seen: str, stem: str) -> list[int]:
    """A row for the surface of that kind at a place: it takes the scan's points there. Returns its id."""
    actor.must_change()
    stem = checked_stem(stem)
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan, _ = scan_row(session, job_id, scan_id)
        state = load(session, job_id)
        found = find(state, scan_id, place)
        surface = next((each for each in found.each if each.kind == kind), None)
        if found.seen != seen or surface is None:
            raise InputError("The scan was changed meanwhile.", "Nothing was planned.", "Click on it once more.")
        raw = found.raw(surface, scan_id) | {"nominal": found.planned(state, surface)}
        return _added(session, actor, job_id, raw, stem, scan)


def _added(session: Session, actor: Actor, job_id: int, raw: dict[str, Any], stem: str, scan: Row) -> list[int]:
    rows = add_rows(session, actor, job_id, named(session, job_id, [raw], stem))
    for row_id in rows:
        stored(session, Row, row_id).finished_at = scan.finished_at
    return rows


def words_of(found: FoundSurfaces, surface: GrownSurface, units: Units) -> str:
    """What it is, its sizes, how far its points lie apart across it, and how many they are."""
    recipe = cast(MeasuredRecipe, recipe_from_dict({**found.raw(surface, 0), "scans": [], "name": "?"}))
    words = words_for(recipe)
    sizes = [
        f"{words.label(recipe, q.key)} {quantity_text(q.of(surface.shape), q.unit, units)}"
        for q in recipe.quantities_of(surface.shape)
        if q.of is not None and not q.in_part
    ]
    leaves = f"±{length_text(surface.fit.rms, units)} {units}"
    return ", ".join([words.stem(recipe), *sizes, leaves, f"{count_text(len(surface.members))} points"])
