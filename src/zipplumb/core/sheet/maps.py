"""A map of a scan's deviations from the CAD: what is to be worked out, and how its places are judged.

A place errs by what its own points do (those of a line share the arm's error), by the scanner's calibration and where it
stood, and by the alignment; what these share, by its source, adds or cancels as it is in life. Which place truly is the
farthest off is not known: noise draws the extreme of many outward (see ``tolerances.extremes``), as much as places differ from
those beside them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, partial
from typing import Any, Literal, cast

import numpy as np
from scipy.spatial import cKDTree

from ..alignment import Alignment
from ..cloud.deviating import DeviationResult, DeviationWork, Places
from ..cloud.giving import GivenPoints, evenly
from ..cloud.light import Chunk
from ..cloud.sorting import NORMAL, Faces
from ..cloud.working import Progress
from ..fingerprints import fingerprint
from ..frames import Array, Indices
from ..readings import HitSet
from ..tolerances.extremes import excess, within
from ..uncertainty import Source, Uncertainty
from .base import Asked as Limits
from .base import Needed, RowRecipe
from .bases.mapped import MapRecipe, OnMapRecipe
from .clouds import Asked, key_prefix
from .given import Kit, SheetRow
from .graph import Failed, Name, Node
from .judging import VYING, asked_of, decided, doubted_stations, follows, none_yet, why_unproven
from .quantities import Quantity
from .results import Characteristic, FoundSystem, RowResult, State
from .row_hits import RowHits
from .told import Sure, Told

KEYS = ("largest", "smallest", "mean", "spread", "low", "high")
PINNED = "deviation"
QUANTITIES = tuple(Quantity(key, nominal=0.0) for key in KEYS)
MOST_ARE = (2.5, 97.5)  # percentiles between which 95 % lie
LOOKED_AT = 400  # places at which the scanner's share is looked at
MANY, BESIDE = 2_000, 8  # places, and their neighbours, that show how far one errs by itself
BESIDE_STEPS = 3.0  # of a map's grid, within which a pin finds its place
UNPLACED = "The part is not aligned yet."
Word = Literal["in", "not proven", "out"]
WORDS: tuple[Word, ...] = ("in", "not proven", "out")


@dataclass(frozen=True)
class Figures:
    """Of places that weigh alike: ``places``, mean, spread (standard deviation), between which 95 % lie, extremes, and the
    shares that are in, not proven and out; None where nothing says what would be in."""

    places: int
    mean: float
    spread: float
    low: float
    high: float
    smallest: float
    largest: float
    shares: tuple[float, float, float] | None = None

    @classmethod
    def of(cls, off: Array, words: Indices | None) -> Figures:
        low, high = np.percentile(off, MOST_ARE)
        shares = None if words is None else tuple(np.bincount(words, minlength=3)[:3] / len(words))
        return cls(
            len(off), float(off.mean()), float(off.std()), float(low), float(high), float(off.min()), float(off.max()),
            cast("tuple[float, float, float] | None", shares),
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class FoundMap:
    """The value of a map's node. ``key`` names what was worked out."""

    state: State
    message: str = ""
    key: str = ""
    result: DeviationResult = field(default_factory=DeviationResult)

    @property
    def places(self) -> Places:
        return self.result.places

    def point_mm(self, face: int) -> float:
        """How far one point on a face errs by itself: what its places are off those beside them, by a robust scale. Form that
        is as fine counts with it; infinite where that is not seen."""
        mine = self.places.of(self.places.faces == face)
        if len(mine) <= BESIDE:
            return np.inf
        some = evenly(np.arange(len(mine)), MANY)
        near = cKDTree(mine.points).query(mine.points[some], BESIDE + 1)[1][:, 1:]
        off = mine.means[some] - mine.means[near].mean(axis=1)
        share = 1 / mine.counts[some] + (1 / mine.counts[near]).mean(axis=1) / BESIDE
        return float(NORMAL * np.median(np.abs(off) / np.sqrt(share)))


@dataclass(frozen=True, eq=False)
class JudgedMap:
    """A map in its alignment: ``U`` (k,) of each place's deviation, mm; ``lower``, ``upper``: limits of it, where they are
    asked."""

    found: FoundMap
    U: Array
    lower: float | None
    upper: float | None
    sure_at: Callable[[int], Sure]

    def nearest(self, place: Array) -> int | None:
        """The number of the place that is nearest to one (3,) in the part; None where nothing was seen near by."""
        away = np.linalg.norm(self.found.places.points - place, axis=1)
        least = int(np.argmin(away))
        return least if away[least] <= BESIDE_STEPS * self.found.result.step_mm else None

    @cached_property
    def words(self) -> Indices | None:
        """(k,) which of ``WORDS`` is true of each place; None without limits."""
        if self.lower is None and self.upper is None:
            return None
        off = self.found.places.means
        low = -np.inf if self.lower is None else self.lower
        high = np.inf if self.upper is None else self.upper
        out = (off - self.U > high) | (off + self.U < low)
        sure = (off + self.U <= high) & (off - self.U >= low)
        return np.where(out, 2, np.where(sure, 0, 1))

    @cached_property
    def whole(self) -> Figures:
        return Figures.of(self.found.places.means, self.words)

    @property
    def told(self) -> str:
        """Which shares are in, not proven and out, in a sentence; "" without limits."""
        if self.whole.shares is None:
            return ""
        share_in, open_, out = (100 * share for share in self.whole.shares)
        return f"{share_in:.1f} % of what was seen is in, {open_:.1f} % not proven, {out:.1f} % out."

    @cached_property
    def of_faces(self) -> dict[int, Figures]:
        """By number of the face."""
        places, words = self.found.places, self.words
        each = [(int(face), np.flatnonzero(places.faces == face)) for face in np.unique(places.faces)]
        return {face: Figures.of(places.means[some], None if words is None else words[some]) for face, some in each}

    def worst_of_faces(self) -> dict[int, int]:
        """Of each face the place that is farthest off, by its number."""
        off, faces = np.abs(self.found.places.means), self.found.places.faces
        order = np.lexsort((off, faces))
        last = np.flatnonzero(np.diff(faces[order], append=-1))
        return dict(zip(faces[order][last].tolist(), order[last].tolist(), strict=True))


@dataclass(frozen=True, eq=False)
class AskedMap(Asked):
    """The deviations of a scan."""

    what = "map"
    row: int
    lines: int
    work: DeviationWork
    scan: int
    faces: None = None

    @property
    def on_cad(self) -> bool:
        return True

    @property
    def of_scan(self) -> int:
        return self.scan

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces | None, progress: Progress) -> FoundMap:
        assert faces is not None  # without CAD it is not asked for
        return FoundMap("done", result=self.work.run(chunks, total, faces, progress))

    def with_what_is_known(self, found: Any) -> Any:
        return found


@dataclass(frozen=True, eq=False)
class MapNodes:
    """``kit``: stations and calibrations; ``surfaces``: names the part's; ``active``: the node of the active system, and the
    row that it is ``aligned_by``."""

    kit: Kit
    surfaces: str
    active: tuple[Name, ...]
    aligned_by: int | None

    def of(self, row: SheetRow, scan: SheetRow | None, reading: HitSet | None, calibrated: str, work: Any) -> dict[Name, Node]:
        """``work``: makes a scan's ``CloudWork`` of its stations."""
        recipe, needs = cast(MapRecipe, row.recipe), (*row.needs, *self.active)
        if reading is not None:
            needs = (*needs, *reading.station_names)
        own = fingerprint("map", recipe.kind, repr(recipe.what_counts), self.surfaces, calibrated)
        of = row, scan, reading, work
        name: Name = ("map", row.id)
        return {
            name: Node(own, needs, self._asked, of, heavy=True),
            ("verdict", row.id): Node(row.digest, (name, *needs), self._judged, of),
        }

    def _asked(self, of: tuple[SheetRow, SheetRow, HitSet, Any], needed: Mapping[Name, Any]) -> FoundMap | AskedMap:
        row, scan, reading, work = of
        recipe = cast(MapRecipe, row.recipe)
        cloud = needed[Needed("cloud", recipe.scan)]
        if isinstance(cloud, Failed) or scan is None:
            return FoundMap("failed", cloud.message)
        if cloud.state != "done":
            waits = f"Waits for {scan.recipe.name}."
            return FoundMap("failed" if cloud.state == "failed" else "waits", cloud.message or waits)
        if not self.surfaces:
            return FoundMap("failed", "The part has no CAD to compare it with.")
        system = _system(needed, self.active)
        if system is None:
            return FoundMap("waits", UNPLACED)
        return AskedMap(row.id, cloud.lines, recipe.work(work(scan, reading, needed), system), scan.id)

    def _judged(self, of: tuple[SheetRow, SheetRow, HitSet, Any], needed: Mapping[Name, Any]) -> RowResult:
        row, _, reading, _ = of
        found = needed["map", row.id]
        limits = asked_of(row.recipe, QUANTITIES)
        if isinstance(found, Failed):
            found = FoundMap("failed", found.message)
        elif not isinstance(found, FoundMap):  # not worked out yet, or that went wrong
            found = FoundMap(found.state, found.message)
        system = _system(needed, self.active)
        if found.state != "done" or system is None:
            none = tuple(none_yet(quantity, asked) for asked, quantity in limits)
            return RowResult(row.id, found.state, found.message, characteristics=none, map=found)
        stations = {n[1]: needed[n] for n in reading.station_names}
        judge = _Judge(row.id, found, system, reading, Kit(stations, self.kit.calibrations), cast(MapRecipe, row.recipe).scan)
        lower, upper = _limits(row.recipe)
        judged = JudgedMap(found, judge.U, lower, upper, judge.sure_at)
        return RowResult(
            row.id, "done", characteristics=judge.characteristics(judged.whole, limits), aligned_by=self.aligned_by,
            told=judged.told, map=judged, doubts=judge.doubts,
        )  # fmt: skip


def _system(needed: Mapping[Name, Any], active: tuple[Name, ...]) -> Alignment | None:
    found = next((needed[name] for name in active), None)
    return found.alignment if isinstance(found, FoundSystem) else None


def _limits(recipe: RowRecipe) -> tuple[float | None, float | None]:
    """Of a place: the lower one of the smallest deviation, and the upper one of the largest."""
    asked = {each.key: each for each in recipe.asked}
    lower = asked["smallest"].lower if "smallest" in asked else None
    return lower, asked["largest"].upper if "largest" in asked else None


@dataclass(frozen=True, eq=False)
class _Judge:
    """How sure a map's deviations are."""

    row: int
    found: FoundMap
    system: Alignment
    reading: HitSet
    kit: Kit
    scan: int

    def _lit(self, some: Indices) -> RowHits:
        """Some places as points of the scan, in the world."""
        places, system = self.found.places.of(some), self.system
        world = system.part_from_world.inverse().points(places.points) / system.scale
        return RowHits.of_light(self.row, GivenPoints(world, places.lines), self.reading, self.kit, key_prefix(self.scan))

    @property
    def doubts(self) -> tuple[str, ...]:
        """Why the calibrations and stations that it was scanned with are in doubt."""
        return self._lit(self._some).doubts

    @cached_property
    def _some(self) -> Indices:
        """Places all over, at which what moves many together is looked at."""
        return evenly(np.arange(len(self.found.places)), LOOKED_AT)

    def _laid(self, some: Indices) -> tuple[Array, Uncertainty]:
        """How the deviations of some places answer to a motion of the part, and what they err by with alignment, scanner and
        stations."""
        moves, ways = self.moves(some), self.system.part_from_world.inverse().vectors(self.found.places.normals[some])
        shifts = self._lit(some).shifts()
        shared = {source: np.einsum("ni,nim->nm", ways, moved) for source, moved in shifts.items()}
        return moves, self.system.uncertainty.through(moves) + Uncertainty(len(some), shared)

    @cached_property
    def _own(self) -> tuple[float, float]:
        lights = [self.kit.calibrations[c].light for c in set(self.reading.calibrations.tolist())]
        return max(light.u_point_mm for light in lights if light is not None), self.reading.u_hit_mm

    def own_u(self, counts: Indices) -> Array:
        """(k,) of places with so many points: their lines are taken for one, which errs as the arm does."""
        light, arm = self._own
        return np.sqrt(light**2 / counts + arm**2)

    def moves(self, some: Indices) -> Array:
        """(m, 6), or 7 where the scale is free: how deviations answer to a small slide and turn of the part about its origin,
        and to its scale."""
        places = self.found.places.of(some)
        growing = np.einsum("ij,ij->i", places.points, places.normals)[:, None]
        return np.hstack([places.normals, np.cross(places.points, places.normals), growing])[:, : self.system.uncertainty.size]

    @cached_property
    def U(self) -> Array:
        """(k,) of each place, from all sources; what scanner and stations add to the alignment is the most that they do at many
        places. Infinite where nothing holds the part, or all is in doubt."""
        places, system = self.found.places, self.system
        moves = self.moves(np.arange(len(places)))
        laid = np.einsum("ki,ij,kj->k", moves, system.covariance, moves)
        _, all_over = self._laid(self._some)
        total = np.array([all_over.u(k) ** 2 for k in range(all_over.size)])
        beside = max(float((total - laid[self._some]).max()), 0.0)
        found = 2 * np.sqrt(np.maximum(laid, 0.0) + beside + self.own_u(places.counts) ** 2)
        for loose in system.ledger.loose:
            found[follows(moves[:, :6], loose.motion)] = np.inf
        return np.full(len(found), np.inf) if system.doubt or doubted_stations(all_over) else found

    def characteristics(self, whole: Figures, limits: list[tuple[Limits, Quantity]]) -> tuple[Characteristic, ...]:
        off = self.found.places.means
        told = {
            "largest": Told(whole.largest, lambda: self._extreme(int(np.argmax(off)), off)),
            "smallest": Told(whole.smallest, lambda: self._extreme(int(np.argmin(off)), -off)),
        }
        told |= {key: Told(getattr(whole, key), partial(self.sure_at, self._at(key))) for key in ("low", "high")}
        told["mean"] = Told(whole.mean, self._mean)
        told["spread"] = Told(whole.spread, self._spread)
        return tuple(decided(quantity, asked, told[quantity.key], "done") for asked, quantity in limits)

    def _at(self, key: str) -> int:
        """The place that is nearest to one of the ``MOST_ARE``."""
        off = self.found.places.means
        share = MOST_ARE[("low", "high").index(key)]
        return int(np.argmin(np.abs(off - np.percentile(off, share))))

    def _mean(self) -> Sure:
        """What moves all places alike, at many of them; of their own errors the arm's, as if one line told all."""
        moves, all_over = self._laid(self._some)
        share = np.full((1, len(moves)), 1 / len(moves))
        total = all_over.through(share) + Uncertainty(1, {Source("hits", self.row): np.array([[self._own[1]]])})
        return Sure(total, why_unproven((share @ moves)[0, :6], total, self.system))

    def _spread(self) -> Sure:
        """It is off by no more than places are, at most."""
        worst = float(self.U.max())
        unproven = "" if np.isfinite(worst) else "Some places are not known."
        return Sure(Uncertainty(1, {Source("hits", self.row): np.array([[worst / 2 if not unproven else 0.0]])}), unproven)

    def sure_at(self, at: int) -> Sure:
        """How sure the deviation of one place is."""
        moves, shared = self._laid(np.array([at]))
        own = self.own_u(self.found.places.counts[[at]])[:, None]
        total = shared + Uncertainty(1, {Source("hits", self.row): own})
        return Sure(total, why_unproven(moves[0, :6], total, self.system))

    def _extreme(self, at: int, outward: Array) -> Sure:
        """How sure the deviation of the place is that seems farthest off."""
        some, places = np.array([at]), self.found.places
        moves, shared = self._laid(some)
        stated = float(self.own_u(places.counts[some])[0])
        alone = min(self.found.point_mm(int(places.faces[at])) / np.sqrt(places.counts[at]), stated)
        vying = np.count_nonzero(outward > outward.max() - VYING * alone)
        bias, own = excess(np.zeros(vying), alone)
        total = shared + Uncertainty(1, {Source("hits", self.row): np.array([[own, np.sqrt(stated**2 - alone**2)]])})
        near = within(bias, float(np.hypot(own, shared.u())))
        return Sure(total, why_unproven(moves[0, :6], total, self.system), max(near, total.U()))


def shown_of(result: RowResult) -> JudgedMap | None:
    """The map of a row, where there is one to show."""
    return result.map if isinstance(result.map, JudgedMap) else None


def pinned(row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
    """The result of a pin: what its map found there."""
    recipe = cast(OnMapRecipe, row.recipe)
    result = needed["verdict", recipe.map]
    quantity = Quantity(PINNED, nominal=0.0)
    judged = None if isinstance(result, Failed) else shown_of(result)
    if judged is None:
        state, message = ("failed", result.message) if isinstance(result, Failed) else (result.state, result.message)
        return RowResult(row.id, cast(State, state), message, characteristics=(none_yet(quantity, Limits(key=PINNED)),))
    limits = next(iter(recipe.asked), None) or Limits(key=PINNED, lower=judged.lower, upper=judged.upper)
    at = judged.nearest(np.array(recipe.at))
    if at is None:
        return RowResult(row.id, "waits", "Nothing was seen there.", characteristics=(none_yet(quantity, limits),))
    places = judged.found.places
    off = float(places.means[at])
    told = Told(off, lambda: judged.sure_at(at))
    seen = places.points[[at]] + off * places.normals[[at]]
    return RowResult(
        row.id, "done", characteristics=(decided(quantity, limits, told, "done"),), contacts_part=seen,
        aligned_by=result.aligned_by, uses=(recipe.map,), doubts=result.doubts,
    )  # fmt: skip
