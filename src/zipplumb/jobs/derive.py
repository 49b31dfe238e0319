"""What features of a job make of each other: everything that is possible, and one of it as a row."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..core.deriving import Drawing, Given, possible
from ..core.errors import InputError
from ..core.sheet.judging import in_system
from ..store.database import transaction
from .actor import Actor
from .planning import add_row, named
from .results import JobResults, load
from .words import derivation_words

MOST = 12  # features at once


@dataclass(frozen=True, eq=False)
class Choice:
    """One thing that chosen features can make, with its value before it is chosen.

    ``unit``: mm or rad of a number, "" of a feature; ``U``: expanded uncertainty; ``draw``: in the part, None
    while it is not aligned.
    """

    key: str
    words: str
    unit: str
    value: float | None
    U: float | None
    why_not: str
    draw: Drawing | None


def choices(job_id: int, of: Sequence[int], given: Given = Given()) -> list[Choice]:
    """All that some features can make, in the active system; what cannot be made comes last, with the reason."""
    with transaction() as session:
        state = load(session, job_id)
    system = state.alignment
    features = [in_system(_feature(state, i), system) for i in _checked(of)]
    found = []
    for made in possible(features, given):
        why_not = "needs the part aligned" if made.in_axes and system is None else made.why_not
        value = made.value if made.unit and not why_not else None
        U = 2 * made.u if value is not None else None
        draw = made.draw if system is not None and not why_not else None
        found.append(Choice(made.key, derivation_words(made.key), made.unit, value, U, why_not, draw))
    return sorted(found, key=lambda c: bool(c.why_not))


def _checked(of: Sequence[int]) -> Sequence[int]:
    if not of or len(set(of)) < len(of) or len(of) > MOST:
        raise InputError(f"Choose one to {MOST} different features.", "Nothing was planned.", "Tick them in the list.")
    return of


def _feature(state: JobResults, row_id: int):
    row = state.row(row_id)
    found = state.results[row_id].feature
    if found is None or found.feature is None:
        raise InputError(f"{row.recipe.name} is not measured yet.", "Nothing was planned.", "Measure it, or choose another.")
    return found.feature


def plan(actor: Actor, job_id: int, key: str, of: Sequence[int], given: Given = Given()) -> int:
    """A row of what was chosen: a dimension, or a made feature. Returns its id."""
    actor.must_change()
    chosen = next((c for c in choices(job_id, of, given) if c.key == key), None)
    if chosen is None or chosen.why_not:
        why = chosen.why_not if chosen else "There is no such thing to make"
        raise InputError(f"{why.rstrip('.')}.", "Nothing was planned.", "Choose another.")
    kind = {"kind": "dimension", "measure": key} if chosen.unit else {"kind": "construction", "make": key}
    raw = {**kind, "of": list(of), "offset_mm": given.offset_mm, "height_mm": given.height_mm, "diameter_mm": given.diameter_mm}
    with transaction() as session:
        return add_row(session, actor, job_id, named(session, job_id, [raw])[0])
