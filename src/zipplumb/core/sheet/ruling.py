"""The decision rule of a job, applied to the results.

``proven``: in and out only beyond U (ISO 14253-1). ``simple``: by the value alone, whatever U is (simple acceptance,
JCGM 106); what is not known at all stays not proven.
"""

from __future__ import annotations

from dataclasses import replace
from weakref import WeakKeyDictionary

from ..tolerances.decision import GUARD, Rule
from .judging import verdict_of
from .results import WORST, Characteristic, RowResult

# so that what did not change is the very same
_ruled: dict[float, WeakKeyDictionary[RowResult, RowResult]] = {share: WeakKeyDictionary() for share in GUARD.values()}


def ruled(found: RowResult, rule: Rule) -> RowResult:
    """A row's result as the rule decides it."""
    share = GUARD[rule]
    if share == 1.0 or found.verdict is None:
        return found
    if (known := _ruled[share].get(found)) is not None:
        return known
    each = tuple(decided(c, rule) for c in found.characteristics)
    if all(now is was for now, was in zip(each, found.characteristics, strict=True)):
        return found
    ruled_now = _ruled[share][found] = replace(found, characteristics=_worst_first(each))
    return ruled_now


def decided(found: Characteristic, rule: Rule) -> Characteristic:
    """One characteristic as the rule decides it."""
    if GUARD[rule] == 1.0 or found.verdict is None or found.unproven or found.deviation is None:
        return found
    verdict = verdict_of(found, GUARD[rule] * (found.U or 0.0))
    return found if verdict == found.verdict else replace(found, verdict=verdict)


def _worst_first(found: tuple[Characteristic, ...]) -> tuple[Characteristic, ...]:
    """Where one number is given for several features, the first is that of the worst."""
    first, *members = found
    judged = [m for m in members if m.verdict is not None and m.of]
    if first.of or len(judged) < len(members) or len(members) < 2:
        return found
    worst = min(judged, key=lambda m: (WORST.index(m.verdict.word), -m.verdict.used))  # type: ignore[union-attr]
    return (replace(worst, key=first.key, of=""), *members)
