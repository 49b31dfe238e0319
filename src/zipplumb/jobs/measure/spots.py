"""Where a row's surface can be touched, in the part."""

from __future__ import annotations

import numpy as np

from ...core.frames import Array
from ...core.sheet import SheetRow
from ...core.spots import spots_on
from ..state.part_model import model_of
from ..state.results import JobResults
from .ahead import ON_OUTLINE, outline_of


def spots_of_row(state: JobResults, row: SheetRow) -> Array:
    """(n, 3) on its face of the CAD, else on the lines of its nominal; empty where neither is known. Kept with the job."""
    kept, face = state.remembered.setdefault("spots", {}), row.recipe.cad_face
    if face is None:
        return outline_of(state, row).places(ON_OUTLINE)
    key = row.id, state.job.part.sha256, face
    if key not in kept:
        model = model_of(state.job.part)
        known = model is not None and face < len(state.job.part.faces)
        kept[key] = spots_on(*model.mesh_of(face), seed=face)[0] if known else np.empty((0, 3))  # type: ignore[union-attr]
    return kept[key]
