"""Hits that do not belong to their row: farther off its nominal than any part is, or with a form that nothing real has.

General tolerances of what is welded (ISO 13920, class B, from memory: 4 mm at 1 to 2 m, 6 mm at 2 to 4 m), the coarsest that is
measured with such instruments, give the order of both limits. They decide only what is asked, not what is in or out.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..alignment import Alignment
from ..frames import Array
from ..units import mm
from .bases.measured import FeatureRecipe, MeasuredRecipe
from .results import FoundFeature

OFF_MM, OFF_PER_MM = 3.0, 1.5e-3  # of a place, and more by its distance from the zero
FORM_MM, FORM_SHARE = 2.0, 0.01  # of a form, and more by how far the hits reach
SURE = 3.0  # standard uncertainties of the alignment


def words_elsewhere(recipe: FeatureRecipe, found: FoundFeature, system: Alignment | None) -> str:
    """What is wrong with where a row's hits lie, as a sentence; "" where nothing is, or a person has said that it is right.

    ``system``: the active one; None where the row helps to make it, so that its place is no witness.
    """
    if not isinstance(recipe, MeasuredRecipe) or recipe.as_touched or found.centers is None or not len(found.centers):
        return ""
    if recipe.proposes:  # what it is is still open
        return ""
    if found.laid < recipe.hits_of_plane:  # these are still of the plane that it lies in
        return ""
    if words := _off_place(recipe, found, system):
        return words
    if found.fit is None or found.fit.spare < 1 or recipe.hits_stand_apart:
        return ""
    form = found.fit.form
    if form <= FORM_MM or form <= FORM_MM + FORM_SHARE * float(np.linalg.norm(np.ptp(found.centers, axis=0))):
        return ""
    return f"Its form is {mm(form, '.1f')}: nothing real is so far off, so some of its hits lie on something else."


def _off(recipe: MeasuredRecipe, nominal: Any, centers: Array, tip_mm: float) -> Array:
    """(n,) mm that each tip lies off touching the nominal, from whichever side."""
    off = np.abs(nominal.distance(centers))
    return np.abs(off - tip_mm) if recipe.sided else np.maximum(off - tip_mm, 0.0)


def far_off(recipe: MeasuredRecipe, found: FoundFeature, system: Alignment) -> Array | None:
    """(n,) how far, in mm, the hits lie off the nominal that lie farther off than any part is, and 0 of the others; None where
    that cannot be told."""
    if system.others or system.doubt:  # then it may be the part that lies elsewhere
        return None
    anywhere = recipe.rests_on_surfaces or not recipe.belongs_at_nominal or found.nominal is None
    if system.ledger.rank < 6 or anywhere or found.centers is None:
        return None
    centers = system.points(found.centers)
    off = _off(recipe, found.nominal, centers, found.tip_mm)
    if off.max() <= OFF_MM:  # of nearly every row
        return np.zeros(len(off))
    may = OFF_MM + OFF_PER_MM * np.linalg.norm(centers, axis=1) + SURE * system.u_at(centers)
    return np.where(off > may, off, 0.0)


def _off_place(recipe: MeasuredRecipe, found: FoundFeature, system: Alignment | None) -> str:
    far = None if system is None else far_off(recipe, found, system)
    if far is None or not far.any():
        return ""
    count = int(np.count_nonzero(far))
    some = f"{count} of its {len(far)} hits lie" if count > 1 else f"One of its {len(far)} hits lies"
    which = "Its hits lie" if count == len(far) > 1 else some
    return f"{which} up to {mm(float(far.max()), '.1f')} off where it belongs."
