"""How a map's places are judged.

A place errs by what it was itself seen with, by calibrations and stations, and by the alignment; what these share, by its
source, adds or cancels as it is in life. Which place truly is the farthest off is not known: noise draws the extreme of many
outward (see ``tolerances.extremes``), as much as places differ from those beside them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, Protocol, cast

import numpy as np

from ...alignment import Alignment
from ...cloud.giving import evenly
from ...frames import Array, Indices
from ...tolerances.extremes import excess, within
from ...uncertainty import Source, Uncertainty
from ..base import Asked as Limits
from ..bases.mapped import WITHIN, MapRecipe
from ..given import SheetRow
from ..graph import Failed, Name
from ..judging import VYING, asked_of, decided, doubted_stations, follows, none_yet, why_unproven
from ..quantities import Quantity
from ..results import Characteristic, FoundSystem, RowResult
from ..row_hits import RowHits
from ..told import Sure, Told
from .found import MOST_ARE, QUANTITIES, FoundMap, JudgedMap
from .limits import limits_of

LOOKED_AT = 400  # places at which what moves many together is looked at
UNPLACED = "The part is not aligned yet."


class Seen(Protocol):
    """With what a map's places were seen.

    Attributes
    ----------
    own_u : (k,) standard uncertainty that each place has by itself, mm
    own_u_of_mean : the same of the mean of all
    """

    @property
    def own_u(self) -> Array: ...

    @property
    def own_u_of_mean(self) -> float: ...

    def hits(self, some: Indices) -> RowHits:
        """Some places as hits, in the world."""
        ...

    def beside(self, some: Indices) -> dict[Source, Array]:
        """What else moves the deviations of some together, (n, m) mm by its source."""
        ...


def judged(
    row: SheetRow, found: FoundMap, needed: Mapping[Name, Any], active: tuple[Name, ...], seen: Seen, aligned_by: int | None
) -> RowResult:
    """The result of a map's row, of which places are known."""
    system = system_of(needed, active)
    assert system is not None
    return judged_by(PlacesJudge(row.id, found, system, seen), row, aligned_by)


def judged_by(judge: PlacesJudge, row: SheetRow, aligned_by: int | None) -> RowResult:
    """The same by a judge of its own."""
    found, recipe = judge.found, cast(MapRecipe, row.recipe)
    told = JudgedMap(found, judge, limits_of(recipe, found.places.faces))
    limits = [(_of_place(asked, told), quantity) for asked, quantity in asked_of(recipe, QUANTITIES)]
    return RowResult(
        row.id, found.state, found.message, characteristics=judge.characteristics(told, limits), aligned_by=aligned_by,
        told=told.told, map=told, doubts=judge.doubts,
    )  # fmt: skip


def not_yet(row: SheetRow, found: FoundMap) -> RowResult:
    """Of a map, of which no places are known."""
    none = tuple(none_yet(quantity, asked) for asked, quantity in asked_of(row.recipe, QUANTITIES))
    return RowResult(row.id, found.state, found.message, characteristics=none, map=found)


def found_of(found: Any) -> FoundMap:
    """The value of a map's node; of one that is not worked out, or went wrong, why."""
    if isinstance(found, FoundMap):
        return found
    return FoundMap("failed", found.message) if isinstance(found, Failed) else FoundMap(found.state, found.message)


def system_of(needed: Mapping[Name, Any], active: tuple[Name, ...]) -> Alignment | None:
    found = next((needed[name] for name in active), None)
    return found.alignment if isinstance(found, FoundSystem) else None


def _of_place(asked: Limits, judged: JudgedMap) -> Limits:
    """As it is judged: the worst place by its own limits; where faces have limits of their own, by nothing else."""
    if asked.key == "worst":
        lower, upper = judged.limits.at(judged.worst)
        return Limits(key=asked.key, lower=lower, upper=upper)
    return asked if judged.limits.alike or asked.key not in WITHIN else Limits(key=asked.key)


@dataclass(frozen=True, eq=False)
class PlacesJudge:
    """How sure a map's deviations are."""

    row: int
    found: FoundMap
    system: Alignment
    seen: Seen

    @property
    def doubts(self) -> tuple[str, ...]:
        """Why the calibrations and stations that it was seen with are in doubt."""
        return self.seen.hits(self._some).doubts

    @cached_property
    def _some(self) -> Indices:
        """Places all over, at which what moves many together is looked at."""
        return evenly(np.arange(len(self.found.places)), LOOKED_AT)

    @property
    def own_u(self) -> Array:
        return self.seen.own_u

    @property
    def own_u_of_mean(self) -> float:
        return self.seen.own_u_of_mean

    def shared(self, some: Indices) -> Uncertainty:
        """What some places err by together, by its source."""
        return self._laid(some)[1]

    def _laid(self, some: Indices) -> tuple[Array, Uncertainty]:
        """How the deviations of some places answer to a motion of the part, and what they err by together, with the
        alignment, calibrations and stations."""
        moves, ways = self.moves(some), self.system.part_from_world.inverse().vectors(self.found.places.normals[some])
        shifts = self.seen.hits(some).shifts()
        shared = {source: np.einsum("ni,nim->nm", ways, moved) for source, moved in shifts.items()} | self.seen.beside(some)
        return moves, self.system.uncertainty.through(moves) + Uncertainty(len(some), shared)

    def moves(self, some: Indices) -> Array:
        """(m, 6), or 7 where the scale is free: how deviations answer to a small slide and turn of the part about its origin,
        and to its scale."""
        places = self.found.places.of(some)
        growing = np.einsum("ij,ij->i", places.points, places.normals)[:, None]
        return np.hstack([places.normals, np.cross(places.points, places.normals), growing])[:, : self.system.uncertainty.size]

    @cached_property
    def U(self) -> Array:
        """(k,) of each place, from all sources; what calibrations and stations add to the alignment is the most that they do at
        many places. Infinite where nothing holds the part, or all is in doubt."""
        places, system = self.found.places, self.system
        moves = self.moves(np.arange(len(places)))
        laid = np.einsum("ki,ij,kj->k", moves, system.covariance, moves)
        _, all_over = self._laid(self._some)
        total = np.array([all_over.u(k) ** 2 for k in range(all_over.size)])
        beside = float((total - laid[self._some]).max())  # less than nothing where they cancel what the alignment errs by
        found = 2 * np.sqrt(np.maximum(laid + beside, 0.0) + self.own_u**2)
        for loose in system.ledger.loose:
            found[follows(moves[:, :6], loose.motion)] = np.inf
        return np.full(len(found), np.inf) if system.doubt or doubted_stations(all_over) else found

    def characteristics(self, judged: JudgedMap, limits: list[tuple[Limits, Quantity]]) -> tuple[Characteristic, ...]:
        off, whole = self.found.places.means, judged.whole
        worst = judged.worst
        told = {
            "largest": Told(whole.largest, lambda: self._extreme(int(np.argmax(off)), off)),
            "smallest": Told(whole.smallest, lambda: self._extreme(int(np.argmin(off)), -off)),
        }
        told |= {key: Told(getattr(whole, key), partial(self.sure_at, self._at(key))) for key in ("low", "high")}
        told["profile"] = self._profile()
        told["worst"] = Told(float(off[worst]), lambda: self._extreme(worst, judged.beyond))
        told["mean"] = Told(whole.mean, self._mean)
        told["spread"] = Told(whole.spread, self._spread)
        return tuple(decided(quantity, asked, told[quantity.key], self.found.state) for asked, quantity in limits)

    def _profile(self) -> Told:
        """The zone about the nominal surface that holds all places (ISO 1101, profile): twice the farthest of them."""
        off = np.abs(self.found.places.means)
        at = int(np.argmax(off))

        def sure() -> Sure:
            told = self._extreme(at, off)
            return Sure(
                told.uncertainty.through(np.array([[2.0]])), told.unproven, None if told.near is None else 2 * told.near
            )

        return Told(2 * float(off[at]), sure)

    def _at(self, key: str) -> int:
        """The place that is nearest to one of the ``MOST_ARE``."""
        off = self.found.places.means
        share = MOST_ARE[("low", "high").index(key)]
        return int(np.argmin(np.abs(off - np.percentile(off, share))))

    def _mean(self) -> Sure:
        """What moves all places alike, at many of them; and what is each one's own."""
        moves, all_over = self._laid(self._some)
        share = np.full((1, len(moves)), 1 / len(moves))
        total = all_over.through(share) + Uncertainty(1, {Source("hits", self.row): np.array([[self.own_u_of_mean]])})
        return Sure(total, why_unproven((share @ moves)[0, :6], total, self.system))

    def _spread(self) -> Sure:
        """It is off by no more than places are, at most."""
        worst = float(self.U.max())
        unproven = "" if np.isfinite(worst) else "Some places are not known."
        return Sure(Uncertainty(1, {Source("hits", self.row): np.array([[worst / 2 if not unproven else 0.0]])}), unproven)

    def sure_at(self, at: int) -> Sure:
        """How sure the deviation of one place is."""
        moves, shared = self._laid(np.array([at]))
        own = self.own_u[[at]][:, None]
        total = shared + Uncertainty(1, {Source("hits", self.row): own})
        return Sure(total, why_unproven(moves[0, :6], total, self.system))

    def _extreme(self, at: int, outward: Array) -> Sure:
        """How sure the deviation of the place is that seems farthest off."""
        some, places = np.array([at]), self.found.places
        moves, shared = self._laid(some)
        stated = float(self.own_u[at])
        alone = min(self.found.point_mm(int(places.faces[at])) / np.sqrt(places.counts[at]), stated)
        vying = np.count_nonzero(outward > outward.max() - VYING * alone)
        bias, own = excess(np.zeros(vying), alone)
        total = shared + Uncertainty(1, {Source("hits", self.row): np.array([[own, np.sqrt(stated**2 - alone**2)]])})
        near = within(bias, float(np.hypot(own, shared.u())))
        return Sure(total, why_unproven(moves[0, :6], total, self.system), max(near, total.U()))
