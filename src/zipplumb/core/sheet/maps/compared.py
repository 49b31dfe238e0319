"""Two maps compared: where, and by how much, what was seen later differs from what was seen first.

What both share, by its source, cancels: of two scans in one alignment with one scanner only what each place errs by itself is
left.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...cloud.deviating import DeviationResult
from ...fingerprints import fingerprint
from ...frames import Array, Indices
from ...uncertainty import Uncertainty
from ..bases.mapped import ComparedRecipe
from ..given import SheetRow
from ..graph import Failed, Name, Node
from ..results import RowResult, State
from .found import FoundMap, JudgedMap, shown_of
from .judging import PlacesJudge, found_of, judged_by, not_yet, system_of


@dataclass(frozen=True, eq=False)
class Pairs:
    """The value of a comparison's node: ``found``, and the places ``theirs`` of the first map and ``mine`` of the second that
    make each difference."""

    found: FoundMap
    theirs: Indices = field(default_factory=lambda: np.empty(0, np.int64))
    mine: Indices = field(default_factory=lambda: np.empty(0, np.int64))


@dataclass(frozen=True, eq=False)
class ComparedNodes:
    """``active``: the node of the active system."""

    active: tuple[Name, ...]

    def of(self, row: SheetRow) -> dict[Name, Node]:
        recipe = cast(ComparedRecipe, row.recipe)
        both: tuple[Name, ...] = ("verdict", recipe.first), ("verdict", recipe.second)
        name: Name = ("map", row.id)
        return {
            name: Node(fingerprint("compared", recipe.first, recipe.second), (*row.needs, *both), _found, row),
            ("verdict", row.id): Node(row.digest, (name, *both, *self.active), self._judged, row),
        }

    def _judged(self, row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
        pairs, system = needed["map", row.id], system_of(needed, self.active)
        if isinstance(pairs, Failed) or pairs.found.state != "done" or system is None:
            return not_yet(row, found_of(pairs if isinstance(pairs, Failed) else pairs.found))
        recipe = cast(ComparedRecipe, row.recipe)
        first, second = (needed["verdict", number] for number in (recipe.first, recipe.second))
        seen = _Both(first.map, second.map, pairs.theirs, pairs.mine)
        return judged_by(_OfTwo(row.id, pairs.found, system, seen), row, second.aligned_by)


def _found(row: SheetRow, needed: Mapping[Name, Any]) -> Pairs:
    recipe, maps = cast(ComparedRecipe, row.recipe), []
    for number in (recipe.first, recipe.second):
        result = needed["verdict", number]
        shown = None if isinstance(result, Failed) else shown_of(result)
        if shown is None:
            state: State = "failed" if isinstance(result, Failed) else result.state
            if state == "done":  # a section without CAD
                return Pairs(FoundMap("failed", "One of the two was not compared with the CAD. Both are kept."))
            return Pairs(FoundMap(state, result.message))
        maps.append(shown.found)
    first, second = maps
    theirs, mine = _pairs(first, second)
    if not len(mine):
        return Pairs(FoundMap("failed", "Nowhere was the part seen both times. Both maps are kept."))
    was, now = first.places.of(theirs), second.places.of(mine)
    places = replace(now, means=now.means - was.means, counts=np.minimum(was.counts, now.counts))
    step = max(first.result.step_mm, second.result.step_mm)
    key, read = fingerprint("compared", first.key, second.key, places.means.tobytes()), len(second.places)
    result = DeviationResult(read, read - len(mine), step, places)
    return Pairs(FoundMap("done", "", key, result, first.apart or second.apart), theirs, mine)


def _pairs(first: FoundMap, second: FoundMap) -> tuple[Indices, Indices]:
    """Places of the first, and those of the second that lie beside them on the same face."""
    mine, theirs = [], []
    for face in np.intersect1d(first.places.faces, second.places.faces).tolist():
        was, now = (np.flatnonzero(each.places.faces == face) for each in (first, second))
        away, nearest = cKDTree(first.places.points[was]).query(second.places.points[now], distance_upper_bound=first.reach_mm)
        near = np.isfinite(away)
        mine.append(now[near])
        theirs.append(was[nearest[near]])
    none = np.empty(0, np.int64)
    return np.concatenate([none, *theirs]), np.concatenate([none, *mine])


@dataclass(frozen=True, eq=False)
class _Both:
    """With what both were seen."""

    first: JudgedMap
    second: JudgedMap
    theirs: Indices
    mine: Indices

    @cached_property
    def own_u(self) -> Array:
        return np.hypot(self.first.judge.own_u[self.theirs], self.second.judge.own_u[self.mine])

    @property
    def own_u_of_mean(self) -> float:
        return float(np.hypot(self.first.judge.own_u_of_mean, self.second.judge.own_u_of_mean))

    def shared(self, some: Indices) -> Uncertainty:
        """What does not cancel."""
        before = self.first.judge.shared(self.theirs[some])
        less = Uncertainty(before.size, {source: -term for source, term in before.by_source.items()})
        return less + self.second.judge.shared(self.mine[some])

    @property
    def known(self) -> NDArray[np.bool_]:
        """(k,) both are."""
        return np.isfinite(self.first.U[self.theirs]) & np.isfinite(self.second.U[self.mine])


@dataclass(frozen=True, eq=False)
class _OfTwo(PlacesJudge):
    seen: _Both  # type: ignore[assignment]

    @property
    def doubts(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys((*self.seen.first.judge.doubts, *self.seen.second.judge.doubts)))

    def moves(self, some: Indices) -> Array:
        """A motion of the part moves both."""
        return np.zeros((len(some), 6))

    def _laid(self, some: Indices) -> tuple[Array, Uncertainty]:
        return self.moves(some), self.seen.shared(some)

    @cached_property
    def U(self) -> Array:
        """(k,) of each difference; what both maps do not share is the most that it is at many places."""
        all_over = self.shared(self._some)
        most = max(all_over.u(k) for k in range(all_over.size))
        return np.where(self.seen.known, 2 * np.hypot(most, self.own_u), np.inf)
