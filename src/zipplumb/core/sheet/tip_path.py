"""The centers of one tip as a feature: what is judged of them is told by the part alone, once it is aligned."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..features import Feature
from ..frames import Array, Motion
from ..sections import TipPath
from ..uncertainty import Source, Uncertainty
from .measured import MeasuredRecipe
from .results import FoundFeature
from .row_hits import RowHits


def found_path(recipe: MeasuredRecipe, hits: RowHits) -> FoundFeature:
    """Each hit is as uncertain as one hit is: what is judged is the one that lies off the most."""
    base = replace(recipe.begun(hits, "taking"), warnings=hits.gap_words)
    if not hits.one_radius:
        words = "It was touched with tips of different sizes. The hits are kept. Touch it with one tip."
        return replace(base, state="failed" if hits.finished else "taking", message=words)
    cal, path = hits.calibration, TipPath(hits.centers, hits.calibration.radius_mm)
    terms: dict[Source, Array] = {hits.source: np.vstack([hits.u_hit_mm * np.eye(3), np.zeros((4, 3))])}
    for source, shifts in hits.shifts().items():
        terms[source] = np.vstack([shifts[len(shifts) // 2], np.zeros((4, shifts.shape[2]))])
    terms[Source("tip", cal.id)] = cal.u_radius_mm * np.eye(7)[:, 6:]
    local = Motion(np.eye(3), path.point)
    feature = Feature(recipe.name, path, local, Uncertainty(7, terms), hits.centers)
    return replace(base, state="done" if hits.finished else "taking", feature=feature, contacts=hits.centers)
