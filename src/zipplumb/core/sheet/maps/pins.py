"""A pin: what a map found at one place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, cast

import numpy as np

from ..base import Asked as Limits
from ..bases.mapped import OnMapRecipe
from ..given import SheetRow
from ..graph import Failed, Name
from ..judging import decided, none_yet
from ..quantities import Quantity
from ..results import RowResult, State
from ..told import Told
from .found import PINNED, shown_of


def pinned(row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
    """The result of a pin: what its map found there."""
    recipe = cast(OnMapRecipe, row.recipe)
    result = needed["verdict", recipe.map]
    quantity = Quantity(PINNED, nominal=0.0)
    judged = None if isinstance(result, Failed) else shown_of(result)
    if judged is None:
        state, message = ("failed", result.message) if isinstance(result, Failed) else (result.state, result.message)
        return RowResult(row.id, cast(State, state), message, characteristics=(none_yet(quantity, Limits(key=PINNED)),))
    own = next(iter(recipe.asked), None)
    at = judged.nearest(np.array(recipe.at))
    lower, upper = judged.limits.of_all() if at is None else judged.limits.at(at)
    limits = own or Limits(key=PINNED, lower=lower, upper=upper)
    if at is None:
        return RowResult(row.id, "waits", "Nothing was seen there.", characteristics=(none_yet(quantity, limits),))
    places = judged.found.places
    off = float(places.means[at])
    told = Told(off, lambda: judged.sure_at(at))
    seen = places.points[[at]] + off * places.normals[[at]]
    return RowResult(
        row.id, result.state, characteristics=(decided(quantity, limits, told, result.state),), contacts_part=seen,
        aligned_by=result.aligned_by, uses=(recipe.map,), doubts=result.doubts,
    )  # fmt: skip
