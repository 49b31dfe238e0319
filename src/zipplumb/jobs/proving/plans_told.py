"""A plan that proves, as a difference to the sheet, row by row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

from ...core.sheet import MeasuredRecipe
from ...core.uncertainty import Source
from ...core.units import coarse_text, quantity_text
from ...store.proofs import ProofPlan
from ..state.results import JobResults
from ..words import words_for
from ..words._sources import source_words
from .told import counted, minutes_text


@dataclass(frozen=True)
class RowPlanned:
    """One row. ``hits``, ``now``: how many it needs and asks for, 0 of one that is not touched; ``differs``: it may take these
    over, and they are others; ``of``, ``U``, ``wanted``: of what is the farthest from proven; ``why``: where it will not be."""

    row: int
    name: str
    hits: int = 0
    now: int = 0
    differs: bool = False
    of: str = ""
    U: str = ""
    wanted: str = ""
    proven: bool | None = None
    why: str = ""
    marks: tuple[tuple[float, ...], ...] = ()


@dataclass(frozen=True)
class PlanTold:
    """``lead``: all of it in a sentence or two; ``stands``: what each place would give; ``orders``: what each order of the
    datums would, the one that is asked first; ``unseen``: names of rows, ``borrowed`` of those that hold the part and are seen
    from another place only."""

    lead: str
    rows: tuple[RowPlanned, ...]
    stands: tuple[str, ...]
    unseen: tuple[str, ...]
    borrowed: tuple[str, ...] = ()
    orders: tuple[str, ...] = ()


def plan_told(state: JobResults, plan: ProofPlan) -> PlanTold | None:
    """None before it is there. Rows that were taken off the sheet since are left out."""
    found = plan.found
    if found is None:
        return None
    there = state.sheet.index
    ids = [row.id for row in state.rows if str(row.id) in found["rows"] or str(row.id) in found["proofs"]]
    rows = tuple(_row(state, row, found) for row in ids)
    judged = [row for row in rows if row.proven is not None]
    proven = sum(bool(row.proven) for row in judged)
    hits, now = sum(row.hits for row in rows), sum(row.now for row in rows)
    used = f"{100 * plan.asked['used']:.0f} %"
    unseen, borrowed = (
        tuple(state.row(row).recipe.name for row in found[which] if row in there) for which in ("unseen", "borrowed")
    )
    if not judged:
        none = "is in sight from there" if unseen else "can be planned so"
        return PlanTold(f"No row with limits {none}: nothing is to be proven.", (), (), unseen)
    lead = (
        f"A part that uses {used} of each tolerance would be proven in {proven} of {counted(len(judged), 'row')},"
        f" with {hits} hits where the sheet asks for {now}: about {minutes_text(found['takes_s'])}."
    )
    stands = tuple(_stand(state, each, found) for each in found["stands"])
    return PlanTold(lead, rows, stands, unseen, borrowed, _orders(state, found.get("orders", [])))


def _stand(state: JobResults, each: Mapping[str, Any], found: Mapping[str, Any]) -> str:
    units = state.job.units
    at = "  ".join(f"{axis} {coarse_text(v, units)}" for axis, v in zip("XYZ", each["at"], strict=True))
    told = f"{at}: {_gives(each)}"
    return f"{told}: the best" if each["at"] == found["stand"] else told


def _gives(each: Mapping[str, Any]) -> str:
    return f"{each['proven']} proven with {each['hits']} hits, about {minutes_text(each['takes_s'])}"


def _orders(state: JobResults, found: Sequence[Mapping[str, Any]]) -> tuple[str, ...]:
    """The one that is asked first, then the best."""
    there = state.sheet.index
    known = [each for each in found if all(row in there for row in each["datums"])]
    known[1:] = sorted(known[1:], key=lambda each: (-each["proven"], each["takes_s"]))

    def named(each: Mapping[str, Any]) -> str:
        recipes = [state.row(row).recipe for row in each["datums"]]
        return ", ".join(dict.fromkeys(recipe.datum_letter or recipe.name for recipe in recipes))

    return tuple(f"{named(each)}{'' if k else ', as it is asked'}: {_gives(each)}" for k, each in enumerate(known))


def _row(state: JobResults, row_id: int, found: Mapping[str, Any]) -> RowPlanned:
    row = state.row(row_id)
    recipe, spots = row.recipe, found["rows"].get(str(row_id), [])
    now = recipe.wanted_hits if spots else 0
    free = bool(spots) and recipe.takes_more and not row.finished
    differs = free and _differs(cast(MeasuredRecipe, recipe), spots, str(row_id) in found["aimed"])
    marks = tuple(tuple(spot) for spot in spots)
    planned = RowPlanned(row_id, recipe.name, len(spots), now, differs, marks=marks)
    proof = found["proofs"].get(str(row_id))
    if proof is None:
        return planned
    units, key, factor = state.job.units, proof["key"], recipe.share_of(proof["key"])
    unit = dict(recipe.available(state.results[row_id].feature)).get(key, "mm")
    proven = proof["U"] is not None and proof["U"] <= proof["wanted"]
    names = {each.id: each.recipe.name for each in state.rows}
    why = "" if proof["source"] is None else f"too much from {source_words(Source(*proof['source']), names)}"
    return RowPlanned(
        row_id, recipe.name, len(spots), now, differs, words_for(recipe).label(recipe, key),
        "–" if proof["U"] is None else quantity_text(factor * proof["U"], unit, units),
        quantity_text(factor * proof["wanted"], unit, units), proven,
        why, marks,
    )  # fmt: skip


def _differs(recipe: MeasuredRecipe, spots: list[list[float]], aimed: bool) -> bool:
    asked = recipe.asking(len(spots), spots if aimed else [])
    return asked != {"hits": recipe.hits, "aims": [list(aim) for aim in recipe.aims]}
