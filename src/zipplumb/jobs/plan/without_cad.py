"""Aligning without CAD, at the device: touch a plane, say which axis it is, go on until nothing is loose."""

from __future__ import annotations

from typing import cast

import numpy as np
from sqlalchemy.orm import Session

from ...core.features import plane_of
from ...core.sheet import RowResult, SheetRow, recipe_from_dict
from ...core.sheet.bases.systems import SystemRecipe
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..state.recipes import rewrite
from ..state.results import JobResults, load
from .adding import add_rows, named

AXES_MODE = "axes"
KIND = "planes_as_axes"


def begin(actor: Actor, job_id: int) -> None:
    """From now on every plane that is touched is asked which axis it is. A new alignment begins with the first."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        growing = growing_row(load(session, job_id))
        job.touching = AXES_MODE
        if growing is None:
            job.alignment_row_id = None
        record(session, actor, job_id, "align at the device")
        tell(session, job_id, "sheet", tone="moved")


def growing_row(state: JobResults) -> SheetRow | None:
    """The alignment in use, where a plane may still be added to it."""
    active = state.job.alignment_row_id
    if active is None or active not in state.sheet.index:
        return None
    row = state.row(active)
    return row if cast(SystemRecipe, row.recipe).axes_left else None


def axes_for(state: JobResults, found: RowResult) -> list[str]:
    """Axes to which a touched plane may be normal, the likeliest first, as far as the alignment is known."""
    feature = found.feature
    plane = None if feature is None or feature.feature is None else plane_of(feature.feature.shape)
    if feature is None or plane is None:
        return []
    growing = growing_row(state)
    left = "XYZ" if growing is None else cast(SystemRecipe, growing.recipe).axes_left
    normal = plane.normal
    if growing is not None and (system := state.results[growing.id].alignment) is not None:
        normal = system.part_from_world.rotation @ normal
    faces = {f"{sign}{letter}": float(f"{sign}1") * normal["XYZ".index(letter)] for letter in left for sign in "+-"}
    return sorted(faces, key=lambda axis: -np.round(faces[axis], 3))


def settle(session: Session, actor: Actor, job: Job, row: Row, axis: str) -> None:
    """Assign an axis to a plane and extend the alignment; the mode ends when no freedom is left."""
    growing = growing_row(load(session, job.id))
    if growing is None:
        raw = {"kind": KIND, "planes": [{"feature": row.id, "axis": axis}]}
        job.alignment_row_id = add_rows(session, actor, job.id, named(session, job.id, [raw]))[0]
    else:
        system = stored(session, Row, growing.id)
        grown = cast(SystemRecipe, growing.recipe).grown(row.id, axis)  # type: ignore[arg-type]
        before = rewrite(system, recipe_from_dict(grown.model_dump(mode="json")))
        record(session, actor, job.id, "edit", row=system.id, before=before, after=system.recipe)
    session.flush()
    state = load(session, job.id)
    if growing_row(state) is None:
        job.touching = ""
