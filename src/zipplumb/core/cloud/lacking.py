"""How much of some faces light has seen so far, how surely, and from where it has not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..frames import Array, Indices

# common practice: surfaces steeper than 60 to 70° to the light are doubtful
STEEP_RAD = np.radians(65.0)
OFF_MM = 1.0  # of a face's own light
SURELY = 3  # points near to a place by which it is seen
TOGETHER = 8  # places that two passes share, from which on they are compared
ENOUGH, OF_A_WAY = 0.5, 0.2  # of a face that looks one way; of each way that one looks which bends
WAYS = 2.0  # ways out are told apart by half of their coordinates
ONE_SIDE = 0.4  # length of the mean way out of what is not seen, from which on that tells a side


@dataclass(frozen=True, eq=False)
class FaceSeen:
    """``share`` of a face that is seen, ``steep``: that light met only aslant, and ``thin``: with too few points; ``toward``
    (3,): where what is not seen of what bends faces, where that is one side; ``enough``: half of what is flat, or some of each
    way that a bent one faces. ``once``: all of it was seen in one pass; ``apart_mm``: so far two passes lie apart at most, by
    the median of the places that both saw."""

    face: int
    share: float
    steep: float
    thin: float
    toward: Array | None
    enough: bool
    once: bool
    apart_mm: float


@dataclass(frozen=True, eq=False)
class _Offs:
    """Of each place how many points lie near to it, and how far off the face these are in all, mm."""

    counts: Indices
    sums: Array

    @classmethod
    def of(cls, places: int) -> _Offs:
        return cls(np.zeros(places, np.int64), np.zeros(places))

    @property
    def means(self) -> Array:
        return self.sums / np.maximum(self.counts, 1)

    def add(self, places: Indices, off: Array) -> None:
        np.add.at(self.counts, places, 1)
        np.add.at(self.sums, places, off)

    def with_more(self, more: _Offs) -> _Offs:
        return _Offs(self.counts + more.counts, self.sums + more.sums)


class Coverage:
    """Places on faces, and how often light has met each.

    Attributes
    ----------
    spots, outward : (s, 3) in the part, evenly spread over each face, and which way it faces there
    faces : (s,) number of the face of each
    reach_mm : (s,) light that is so near to a place tells of it
    """

    def __init__(self, spots: Array, outward: Array, faces: Indices, reach_mm: Array):
        self.spots, self.outward, self.faces, self.reach_mm = spots, outward, faces, reach_mm
        self.sure, self.steep = np.zeros(len(spots), np.int64), np.zeros(len(spots), np.int64)
        self._of_face = [(face, np.flatnonzero(faces == face)) for face in np.unique(faces).tolist()]
        self._way = np.zeros(len(spots), np.int64)  # those of one face that look one way
        for _, mine in self._of_face:
            self._way[mine] = np.unique(np.round(WAYS * outward[mine]), axis=0, return_inverse=True)[1].ravel()
        self._tree = cKDTree(spots) if len(spots) else None
        self._pass: int | None = None
        self._now, self._before = _Offs.of(len(spots)), _Offs.of(len(spots))
        self.passes = np.zeros(len(spots), np.int64)
        self.apart_mm = {face: 0.0 for face, _ in self._of_face}

    def take(self, points: Array, ways: Array, of_pass: int = 0) -> None:
        """More points of light (n, 3), in the part, and their ways (n, 3) of length 1; ``of_pass``: names their pass."""
        if self._tree is None or not len(points):
            return
        if of_pass != self._pass:
            self._passed()
            self._pass = of_pass
        far, spot = self._tree.query(points, distance_upper_bound=float(self.reach_mm.max()))
        near = np.flatnonzero(np.isfinite(far))
        spot = spot[near]
        rel, out = points[near] - self.spots[spot], self.outward[spot]
        off = np.einsum("ij,ij->i", rel, out)
        mine = (np.abs(off) <= OFF_MM) & (far[near] <= self.reach_mm[spot])
        squarely = -np.einsum("ij,ij->i", ways[near], out)
        for count, some in ((self.sure, squarely >= np.cos(STEEP_RAD)), (self.steep, squarely < np.cos(STEEP_RAD))):
            np.add.at(count, spot[mine & some & (squarely > 0)], 1)
        surely = mine & (squarely >= np.cos(STEEP_RAD))
        self._now.add(spot[surely], off[surely])

    def _passed(self) -> None:
        """A pass is over: how far it lies off those before it."""
        now, both = self._now, (self._now.counts >= SURELY) & (self._before.counts >= SURELY)
        for face, mine in self._of_face:
            some = mine[both[mine]]
            if len(some) >= TOGETHER:
                off = float(abs(np.median(now.means[some] - self._before.means[some])))
                self.apart_mm[face] = max(self.apart_mm[face], off)
        self.passes += now.counts > 0
        self._before = self._before.with_more(now)
        self._now = _Offs.of(len(self.spots))

    @property
    def seen(self) -> NDArray[np.bool_]:
        """(s,) which places are."""
        return self.sure >= SURELY

    def of_faces(self) -> list[FaceSeen]:
        """Of each face, the least seen first."""
        seen, steeply = self.seen, ~self.seen & (self.steep >= SURELY)
        thinly = ~seen & (self.sure > 0)
        passes = self.passes + (self._now.counts > 0)
        found = []
        for face, mine in self._of_face:
            way = self._way[mine]
            shares = np.bincount(way, seen[mine]) / np.bincount(way)
            wanted = OF_A_WAY if len(shares) > 1 else ENOUGH
            lacks = mine[~seen[mine] & (shares < wanted)[way]]
            enough = bool((shares >= wanted).all())
            found.append(
                FaceSeen(
                    face,
                    float(seen[mine].mean()),
                    float(steeply[mine].mean()),
                    float(thinly[mine].mean()),
                    self._toward(lacks) if len(shares) > 1 else None,
                    enough,
                    bool(seen[mine].any() and (passes[mine][seen[mine]] <= 1).all()),
                    self.apart_mm[face],
                )
            )
        return sorted(found, key=lambda each: (each.enough, each.share))

    def _toward(self, unseen: Indices) -> Array | None:
        if not len(unseen):
            return None
        way = self.outward[unseen].mean(axis=0)
        if np.linalg.norm(way) <= ONE_SIDE:  # sides across from each other: that of which most is not seen
            sides, of_side = np.unique(self._way[unseen], return_inverse=True)
            way = self.outward[unseen[of_side.ravel() == np.argmax(np.bincount(of_side.ravel(), minlength=len(sides)))]].mean(
                axis=0
            )
        size = np.linalg.norm(way)
        return way / size if size > 0 else None
