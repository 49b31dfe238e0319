"""Results of the same hits by each criterion of fitting."""

from __future__ import annotations

from ...core.errors import PlumbError
from ...core.fitting import CRITERIA, Meant, fit
from ...core.sheet import criteria_of
from ...core.units import length_text
from ..state.results import JobResults
from ..words._shared import CHOICES

MOST_COMPARED = 2000  # hits, beyond which other criteria are not tried


def other_criteria(state: JobResults, row_id: int) -> str:
    """Results by the other criteria of the kind, as text; requested separately, since it takes a while."""
    recipe, found, units = state.row(row_id).recipe, state.results[row_id].feature, state.job.units
    own = found.fit if found is not None else None
    if found is None or own is None or own.spare < 1 or len(own.points) > MOST_COMPARED:
        return "There is nothing to compare, or too much of it."
    plane = {} if own.lies_in is None or own.lies_in.points is own.points else {"plane": own.lies_in}
    told = []
    for criterion in criteria_of(type(recipe)):
        if criterion == own.criterion or own.kind not in CRITERIA[criterion]:
            continue
        try:
            other = fit(
                own.kind, own.points, criterion=criterion, fixed=plane, toward=found.facing, meant=Meant.near(own.shape)
            )
        except PlumbError:
            continue
        words = f"{CHOICES[criterion]}: form {length_text(other.form, units)}"
        if "diameter" in dict(state.available(row_id)):
            share = recipe.share_of("diameter")
            by = 2 * share * (other.shape.radius - own.shape.radius)
            words += f", {'radius' if share != 1 else 'diameter'} {length_text(by, units, sign=True)}"
        told.append(words)
    return "; ".join(told)
