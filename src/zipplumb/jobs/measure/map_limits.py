"""What is asked of the faces of a map: typed for one, or as the profiles on the model say."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet.bases.mapped import FaceLimits, MapRecipe
from ...core.sheet.kinds.surface_profile import SurfaceProfileRecipe
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..plan.callouts import carried, faces_under
from ..state.recipes import changed
from ..state.results import JobResults, load
from .maps import TypedLimits, map_of

NOTHING = "The limits are as they were."


def of_face(actor: Actor, job_id: int, row_id: int, face: int, limits: TypedLimits) -> None:
    """Ask something of the places of a face; of both limits left out, what is asked of the rest. Raises InputError."""
    actor.must_change()
    limits.asked()  # the right way round
    with transaction() as session:
        state = _locked(session, job_id)
        if face not in map_of(state, row_id).of_faces:
            raise InputError("Nothing of this map lies on that face.", NOTHING, "Click on what is painted.")
        left_out = limits.lower_mm is None and limits.upper_mm is None
        own = () if left_out else (FaceLimits(face=face, lower=limits.lower_mm, upper=limits.upper_mm),)
        _keep(session, actor, state, row_id, own, {face})


def profiles(state: JobResults) -> list[FaceLimits]:
    """What profiles of surfaces ask, of each face the narrowest: those on the sheet, and those that the part's file carries."""
    found: dict[int, FaceLimits] = {}
    for face, low, high in sorted(_asked(state), key=lambda each: each[2] - each[1]):
        found.setdefault(face, FaceLimits(face=face, lower=low, upper=high))
    return list(found.values())


def _asked(state: JobResults) -> list[tuple[int, float, float]]:
    """Face, and the limits on it, mm."""
    kind = SurfaceProfileRecipe.key()
    on_sheet = [cast(SurfaceProfileRecipe, row.recipe) for row in state.rows if row.recipe.key() == kind]
    zones = [(faces_under(state, each.of), each.offset_mm, each.zone_mm) for each in on_sheet]
    zones += [(each.faces, 0.0, each.zone_mm) for each in carried(state.job).tolerances if each.kind == kind]
    return [(face, offset - zone / 2, offset + zone / 2) for faces, offset, zone in zones for face in faces]


def by_profiles(actor: Actor, job_id: int, row_id: int) -> int:
    """Ask of the faces of a map what the profiles on the model ask. Returns of how many. Raises InputError where they ask
    nothing of these."""
    actor.must_change()
    with transaction() as session:
        state = _locked(session, job_id)
        there = map_of(state, row_id).of_faces
        asked = [each for each in profiles(state) if each.face in there]
        if not asked:
            raise InputError(
                "No profile of a surface is asked of a face that this map saw.", NOTHING,
                "Put one on the face, or type its limits here.",
            )  # fmt: skip
        _keep(session, actor, state, row_id, asked, {each.face for each in asked})
        return len(asked)


def _locked(session: Session, job_id: int) -> JobResults:
    stored(session, Job, job_id, lock=True)
    return load(session, job_id)


def _keep(
    session: Session, actor: Actor, state: JobResults, row_id: int, own: Sequence[FaceLimits], instead_of: set[int]
) -> None:
    recipe = cast(MapRecipe, state.row(row_id).recipe)
    kept = [*(each for each in recipe.by_face if each.face not in instead_of), *own]
    by_face = [each.model_dump() for each in sorted(kept, key=lambda each: each.face)]
    asked: list[dict[str, Any]] = [each.model_dump() for each in recipe.asked if each.key != "worst"]
    if by_face:  # else the whole is judged by its own limits
        asked.insert(0, {"key": "worst"})
    row = stored(session, Row, row_id)
    before = changed(row, by_face=by_face, asked=asked)
    record(session, actor, state.job.id, "edit", row=row_id, before=before, after=row.recipe)
    tell(session, state.job.id, "sheet")
