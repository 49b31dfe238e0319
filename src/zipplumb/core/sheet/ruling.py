"""The rule by which a job decides, laid on what was found.

``proven``: in and out only beyond U (ISO 14253-1). ``simple``: by the value alone, whatever U is (simple acceptance,
JCGM 106); what is not known at all stays not proven.
"""

from __future__ import annotations

from dataclasses import replace
from weakref import WeakKeyDictionary

from ..tolerances.decision import Rule
from .judging import verdict_of
from .results import WORST, Characteristic, RowResult

_simple: WeakKeyDictionary[RowResult, RowResult] = WeakKeyDictionary()  # so that what did not change is the very same


def ruled(found: RowResult, rule: Rule) -> RowResult:
    """A row's result as the rule decides it."""
    if rule == "proven" or found.verdict is None:
        return found
    if (known := _simple.get(found)) is not None:
        return known
    each = tuple(map(simply, found.characteristics))
    if all(now is was for now, was in zip(each, found.characteristics, strict=True)):
        return found
    decided = _simple[found] = replace(found, characteristics=_worst_first(each))
    return decided


def simply(found: Characteristic) -> Characteristic:
    """Decided by its value alone."""
    if found.verdict is None or found.unproven or found.deviation is None:
        return found
    verdict = verdict_of(found, 0.0)
    return found if verdict == found.verdict else replace(found, verdict=verdict)


def _worst_first(found: tuple[Characteristic, ...]) -> tuple[Characteristic, ...]:
    """Of one number told of several features, the first is that of the worst."""
    first, *members = found
    judged = [m for m in members if m.verdict is not None and m.of]
    if first.of or len(judged) < len(members) or len(members) < 2:
        return found
    worst = min(judged, key=lambda m: (WORST.index(m.verdict.word), -m.verdict.used))  # type: ignore[union-attr]
    return (replace(worst, key=first.key, of=""), *members)
