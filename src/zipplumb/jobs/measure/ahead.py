"""Guidance for the current row: its outline, its targets, and the most informative place of the next hit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.deriving.drawing import Drawing, drawn
from ...core.frames import Array
from ...core.probing.next_place import next_place, places_in_order
from ...core.sheet import SheetRow
from ..state.results import JobResults

REACH_MM, ON_OUTLINE = 15.0, 96
GUESSED = 30  # hits whose places are taken to lie well; beyond, one more or less tells little
NOTHING = np.empty((0, 3))


@dataclass(frozen=True, eq=False)
class Ahead:
    """In the part, mm. ``outline``: of a row that is no face; ``targets`` (k, 3) that are left; ``next`` (3,) or None."""

    outline: Drawing
    targets: Array
    next: Array | None


def ahead_of(state: JobResults) -> Ahead | None:
    """Guidance for the current row; None where it takes no more hits."""
    row = state.current
    if row is None or not row.recipe.takes_hits:
        return None
    recipe, count = row.recipe, state.results[row.id].hits
    aims = recipe.aims_left(count)
    if row.finished and not len(aims):
        return None
    outline = outline_of(state, row)
    if len(aims):
        taken, since = _taken(state, row.id), max(0, count - (recipe.wanted_hits - len(aims)))
        left = _left(aims, None if taken is None else taken[len(taken) - min(since, len(taken)) :], since)
        return Ahead(outline, left, left[0] if len(left) else None)
    if recipe.targets is not None:
        left = _left(recipe.targets, _taken(state, row.id), count)
        return Ahead(outline, left, left[0] if len(left) else None)
    return Ahead(outline, NOTHING, _next(state, row, outline, count))


def outline_of(state: JobResults, row: SheetRow) -> Drawing:
    """Lines of a row's nominal, where that is no face; kept with the job, as it is the same at every hit."""
    kept = state.remembered.setdefault("outline", {})
    if row.id not in kept or kept[row.id][0] is not row.recipe:
        nominal = row.recipe.should_be
        drawing = drawn(nominal, REACH_MM) if nominal is not None and row.recipe.cad_face is None else Drawing()
        kept[row.id] = row.recipe, drawing
    return kept[row.id][1]


def _next(state: JobResults, row: SheetRow, outline: Drawing, count: int) -> Array | None:
    recipe, nominal = row.recipe, row.recipe.should_be
    if (nominal is None and recipe.cad_face is None) or not recipe.hits_of_plane <= count < recipe.wanted_hits:
        return None
    spots = state.spots if recipe.cad_face is not None else outline.places(ON_OUTLINE)
    if not len(spots):
        return None
    taken = _taken(state, row.id)
    if taken is None:  # before the part is aligned nobody knows where the hits lie in it: as if they lay well
        if count > GUESSED:
            return None
        taken = places_in_order(nominal, spots, count)
    return np.asarray(spots[next_place(nominal, spots, taken)])


def _taken(state: JobResults, row: int) -> Array | None:
    """Its hits in the part (n, 3), by the tip's center; None before the part is aligned."""
    feature = state.results[row].feature
    if state.alignment is None:
        return None
    return np.empty((0, 3)) if feature is None or feature.centers is None else state.alignment.points(feature.centers)


def _left(targets: Array, taken: Array | None, count: int) -> Array:
    """The targets that are left: each hit is for the target nearest to it, or for the next where that is not known."""
    if taken is None:
        return targets[count:]
    if not len(taken):
        return targets
    nearest = np.linalg.norm(taken[:, None] - targets[None], axis=2).argmin(axis=1)
    return np.delete(targets, np.unique(nearest), axis=0)
