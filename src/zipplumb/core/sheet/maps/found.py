"""What a map found, place by place: how far each lies off the CAD, and how many lie where."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal, Protocol, cast

import numpy as np
from scipy.spatial import cKDTree

from ...cloud.deviating import DeviationResult, Places
from ...cloud.giving import evenly
from ...cloud.sorting import NORMAL
from ...frames import Array, Indices
from ...uncertainty import Uncertainty
from ..bases.mapped import KEYS
from ..quantities import Quantity
from ..results import RowResult, State
from ..told import Sure
from .limits import NOT_ASKED, PlaceLimits

PINNED = "deviation"
QUANTITIES = tuple(Quantity(key, nominal=0.0) for key in KEYS)
MOST_ARE = (2.5, 97.5)  # percentiles between which 95 % lie
MANY, BESIDE = 2_000, 8  # places, and their neighbours, that show how far one errs by itself
BESIDE_STEPS = 3.0  # of a map's grid, within which a pin finds its place
HALF_WAY = 0.75  # of how far hits are apart: to the middle of four, and a little more
Word = Literal["in", "not proven", "out"]
WORDS: tuple[Word, ...] = ("in", "not proven", "out")


@dataclass(frozen=True)
class Figures:
    """Of places that weigh alike: ``places``, mean, spread (standard deviation), between which 95 % lie, extremes, and the
    shares of those of which it is asked that are in, not proven and out; None where it is asked of none."""

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
        shares = None if words is None else _shares(words)
        return cls(
            len(off), float(off.mean()), float(off.std()), float(low), float(high), float(off.min()), float(off.max()),
            shares,
        )  # fmt: skip


def _shares(words: Indices) -> tuple[float, float, float] | None:
    counts = np.bincount(words[words != NOT_ASKED], minlength=len(WORDS))
    return cast("tuple[float, float, float]", tuple(counts / counts.sum())) if counts.any() else None


@dataclass(frozen=True, eq=False)
class FoundMap:
    """The value of a map's node. ``key`` names what was worked out; ``apart``: its places are hits, as a rule ``step_mm`` from
    one another."""

    state: State
    message: str = ""
    key: str = ""
    result: DeviationResult = field(default_factory=DeviationResult)
    apart: bool = False

    @property
    def reach_mm(self) -> float:
        """So far about a place it is told what was seen there."""
        return (HALF_WAY if self.apart else BESIDE_STEPS) * self.result.step_mm

    @property
    def places(self) -> Places:
        return self.result.places

    @property
    def seen(self) -> Array:
        """(k, 3) where its places were seen, in the part."""
        return self.places.points + self.places.means[:, None] * self.places.normals

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


class Judge(Protocol):
    """How sure a map's deviations are.

    Attributes
    ----------
    U : (k,) of each place, from all sources, mm
    own_u : (k,) standard uncertainty that each place has by itself, mm
    own_u_of_mean : the same of the mean of all
    doubts : why what it was seen with is in doubt
    """

    @property
    def U(self) -> Array: ...

    @property
    def own_u(self) -> Array: ...

    @property
    def own_u_of_mean(self) -> float: ...

    @property
    def doubts(self) -> tuple[str, ...]: ...

    def shared(self, some: Indices) -> Uncertainty:
        """What some places err by together, by its source."""
        ...

    def sure_at(self, at: int) -> Sure: ...


@dataclass(frozen=True, eq=False)
class JudgedMap:
    """A map in its alignment: ``judge`` tells how sure it is; ``limits``: of each place."""

    found: FoundMap
    judge: Judge
    limits: PlaceLimits

    @property
    def U(self) -> Array:
        """(k,) of each place's deviation, mm."""
        return self.judge.U

    def sure_at(self, at: int) -> Sure:
        """How sure the deviation of one place is."""
        return self.judge.sure_at(at)

    def nearest(self, place: Array) -> int | None:
        """The number of the place that is nearest to one (3,) in the part; None where nothing was seen near by."""
        away = np.linalg.norm(self.found.places.points - place, axis=1)
        least = int(np.argmin(away))
        return least if away[least] <= self.found.reach_mm else None

    @cached_property
    def words(self) -> Indices | None:
        """(k,) which of ``WORDS`` is true of each place, or NOT_ASKED; None without limits."""
        return self.limits.words(self.found.places.means, self.U) if self.limits.asked.any() else None

    @cached_property
    def beyond(self) -> Array:
        """(k,) how far each place lies beyond its limit, mm, less than nothing within; without limits, how far off."""
        return self.limits.beyond(self.found.places.means)

    @property
    def worst(self) -> int:
        """The place that lies farthest beyond its limit, or nearest to it."""
        return int(np.argmax(self.beyond))

    def word_at(self, at: int) -> Word | None:
        """What is true of one place; None where nothing is asked of it."""
        return None if self.words is None or self.words[at] == NOT_ASKED else WORDS[self.words[at]]

    @cached_property
    def whole(self) -> Figures:
        return Figures.of(self.found.places.means, self.words)

    @property
    def told(self) -> str:
        """Which shares are in, not proven and out, in a sentence; "" without limits."""
        if self.whole.shares is None:
            return ""
        share_in, open_, out = (100 * share for share in self.whole.shares)
        what = "what was seen" if self.limits.asked.all() else "what was seen and has limits"
        return f"{share_in:.1f} % of {what} is in, {open_:.1f} % not proven, {out:.1f} % out."

    @cached_property
    def of_faces(self) -> dict[int, Figures]:
        """By number of the face."""
        places, words = self.found.places, self.words
        each = [(int(face), np.flatnonzero(places.faces == face)) for face in np.unique(places.faces)]
        return {face: Figures.of(places.means[some], None if words is None else words[some]) for face, some in each}

    def limits_of_faces(self) -> dict[int, tuple[float | None, float | None]]:
        """By number of the face."""
        faces, first = np.unique(self.found.places.faces, return_index=True)
        return {int(face): self.limits.at(int(place)) for face, place in zip(faces, first, strict=True)}

    def worst_of_faces(self) -> dict[int, int]:
        """Of each face the place that is farthest off, by its number."""
        off, faces = np.abs(self.found.places.means), self.found.places.faces
        order = np.lexsort((off, faces))
        last = np.flatnonzero(np.diff(faces[order], append=-1))
        return dict(zip(faces[order][last].tolist(), order[last].tolist(), strict=True))


def shown_of(result: RowResult) -> JudgedMap | None:
    """The map of a row, where there is one to show."""
    return result.map if isinstance(result.map, JudgedMap) else None
