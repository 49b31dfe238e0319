"""Derivations from features of a job: all that are possible, and adding one as a row."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import chain
from typing import Any, cast

from ...core.deriving import Drawing, Given, possible
from ...core.errors import InputError, PlumbError
from ...core.sheet import KINDS
from ...core.sheet.judged import JudgedRecipe
from ...core.sheet.judging import in_system
from ...core.sheet.ruling import decided
from ...core.units import degrees_text, mm
from ...store.database import transaction
from ..actor import Actor
from ..state.results import JobResults, load
from ..words import WORDS, derivation_words
from .adding import add_rows, named
from .lettered import datums_of

MOST = 12  # features at once
ABSURD_MM = 10.0  # a zone that large is of something that was not meant so; one that is typed is judged all the same
CENTERS = "distance_of_the_middles"


@dataclass(frozen=True, eq=False)
class Choice:
    """One thing that chosen features can make, with its value before it is chosen.

    ``unit``: mm or rad of a number, "" of a feature; ``U``: expanded uncertainty; ``draw``: in the part, None
    while it is not aligned; ``raw``: the row that it would be, without a name; ``takes_zone``: it is a tolerance, whose zone
    is still to be typed, or else judged by it: ``word``.
    """

    key: str
    words: str
    unit: str
    value: float | None
    U: float | None
    why_not: str
    draw: Drawing | None
    raw: dict[str, Any]
    takes_zone: bool = False
    word: str = ""
    gives: str = "feature"


def choices(job_id: int, of: Sequence[int], given: Given = Given(), zone_mm: float | None = None) -> list[Choice]:
    """All constructions, dimensions and tolerances of some features, with values, in the active system.

    What cannot be comes last, with the reason. ``zone_mm``: by which tolerances are judged.
    """
    with transaction() as session:
        state = load(session, job_id)
    return choices_of(state, of, given, zone_mm)


def choices_of(state: JobResults, of: Sequence[int], given: Given = Given(), zone_mm: float | None = None) -> list[Choice]:
    """Everything that features of a loaded job make, with values and verdicts; ``zone_mm``: for the tolerances among them."""
    found = [*derived_of(state, of, given), *_tolerances(state, of, zone_mm)]
    return sorted(found, key=lambda c: _order(c, zone_mm is not None))


def derived_of(state: JobResults, of: Sequence[int], given: Given = Given()) -> list[Choice]:
    """The constructions and dimensions alone, in the order in which they are mostly wanted."""
    system = state.alignment
    features = [in_system(_feature(state, i), system) for i in _checked(of)]
    found = []
    for made in possible(features, given):
        why_not = "needs the part aligned" if made.in_axes and system is None else made.why_not
        value = made.value if made.unit and not why_not else None
        U = 2 * made.u if value is not None else None
        draw = made.draw if system is not None and not why_not else None
        kind = {"kind": "dimension", "measure": made.key} if made.unit else {"kind": "construction", "make": made.key}
        raw = {**kind, "of": list(of), **dataclasses.asdict(given)}
        words = f"{derivation_words(made.key)}, {made.at}" if made.at else derivation_words(made.key)
        found.append(Choice(made.key, words, made.unit, value, U, why_not, draw, raw))
    return found


def _order(choice: Choice, judges: bool) -> tuple[bool, bool, bool, bool, float]:
    """What can be comes first; tolerances once one was typed, and of these what needs the least: it is what may be meant. Else
    numbers before features, and first the distance of centers, which a drawing states of whatever has them."""
    least = (choice.value or 0.0) if choice.takes_zone else 0.0
    return bool(choice.why_not), choice.takes_zone != judges, not choice.unit, choice.key != CENTERS, least


def _tolerances(state: JobResults, of: Sequence[int], zone_mm: float | None) -> list[Choice]:
    """The zone that each applicable tolerance needs, and the tables."""
    nominals = {i: state.row(i).recipe.should_be for i in of}
    datums = datums_of((i, state.row(i).recipe) for i in of)
    groups = [datums[letter] for letter in sorted(datums)]
    raws: dict[str, dict[str, Any]] = {}
    for kind in KINDS.values():
        if issubclass(kind, JudgedRecipe):
            found = [kind.with_nominals(raw, nominals) for raw in _told_of(kind, of, groups)]
            raws |= {f"{raw['kind']}_{raw.get('to_datum', '')}": raw for raw in found[::-1] if raw is not None}
    return [_tolerance(state, key, raw, zone_mm) for key, raw in raws.items()]


def _told_of(kind: type[JudgedRecipe], of: Sequence[int], groups: Sequence[Sequence[int]]) -> list[dict[str, Any]]:
    """How such a judgement is told of what is chosen; ``groups``: the datums among it, by their letters.

    What has a datum letter, or is a target of one, is a datum of the others: of all of them together where that can be, else
    of each. Without others each that has a letter is one in turn; without letters each of two, and the first of more.
    """
    others = [i for i in of if not any(i in group for group in groups)]
    if groups and others:
        ways: list[list[Sequence[Sequence[int]]]] = [[groups], [[group] for group in groups], [[]]]
        for told in ways:
            with suppress(InputError):
                return [kind.on(others, each) for each in told]
        return []
    each = [i for group in groups for i in group] or (of if len(of) == 2 else of[:1])
    orders = [tuple(of)] if len(of) == 1 or not kind.takes_zone else [(*(i for i in of if i != last), last) for last in each]
    return [raw for raw in map(kind.of_chosen, orders) if raw is not None]


def _to(there: Mapping[int, Any], datums: Sequence[Sequence[int]]) -> str:
    """Of one datum its name, of several their letters."""
    if not datums:
        return ""
    if len(datums) == 1:
        return " to " + " and ".join(there[i].name for i in datums[0])
    return " to " + ", ".join(there[group[0]].letter[:1] for group in datums)


def _tolerance(state: JobResults, key: str, raw: dict[str, Any], zone_mm: float | None) -> Choice:
    kind = cast(type[JudgedRecipe], KINDS[raw["kind"]])
    recipe = kind.model_validate({**raw, "name": "?", **({"zone_mm": zone_mm or 1.0} if kind.takes_zone else {})})
    there = {i: state.results[i].feature for i in (*raw["of"], *chain(*recipe.in_order))}
    names = [there[i].name for i in raw["of"]]  # type: ignore[union-attr]
    of = f"these {len(names)}" if kind.is_table else " and ".join(names)
    at = f" at {degrees_text(raw['angle_rad'], 2)}" if "angle_rad" in raw else ""
    words = f"{WORDS[raw['kind']].noun.capitalize()} of {of}{_to(there, recipe.in_order)}{at}"
    try:
        judged = recipe.judged(0, there, state.alignment)  # type: ignore[arg-type]
    except PlumbError as error:
        return Choice(key, words, "mm", None, None, str(error), None, raw, kind.takes_zone)
    first, draw = judged.characteristics[0], judged.draw if state.alignment is not None else None
    first = decided(first, state.sheet.rule)
    if kind.is_table:
        return Choice(key, words, "", None, None, "", draw, raw, gives="table")
    if zone_mm is None and kind.takes_zone and first.actual is not None and first.actual > ABSURD_MM:
        return Choice(key, words, "mm", None, None, f"it would need {mm(first.actual)}", None, raw, kind.takes_zone)
    word = first.verdict.word if first.verdict and (zone_mm or not kind.takes_zone) else ""
    return Choice(key, words, "mm", first.actual, first.U, "", draw, raw, kind.takes_zone, word)


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


def plan(actor: Actor, job_id: int, key: str, of: Sequence[int], given: Given = Given(), zone_mm: float | None = None) -> int:
    """A row of what was chosen: a dimension, a made feature, or a tolerance. Returns its id."""
    actor.must_change()
    chosen = next((c for c in choices(job_id, of, given, zone_mm) if c.key == key), None)
    if chosen is None or chosen.why_not:
        why = chosen.why_not if chosen else "There is no such thing to make"
        raise InputError(f"{why.rstrip('.')}.", "Nothing was planned.", "Choose another.")
    if chosen.takes_zone and not zone_mm:
        raise InputError("A tolerance needs its zone.", "Nothing was planned.", "Type the tolerance of the drawing first.")
    raw = {**chosen.raw, "zone_mm": zone_mm} if chosen.takes_zone else chosen.raw
    with transaction() as session:
        return add_rows(session, actor, job_id, named(session, job_id, [raw]))[0]
