"""The hits of one row that are not set aside, in world coordinates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import compress
from typing import Any

import numpy as np

from ..calibration import ProbeCalibration
from ..cloud.giving import GivenPoints
from ..frames import Array, Indices, cross, points_of_poses, rotations_from_quaternions, unit
from ..readings import HitSet
from ..uncertainty import Source
from .given import Kit

SAME_RADIUS_MM = 1e-9
STATION = "station"  # what is uncertain of where they stand, which they share
BACK_MM = 2.0  # from a point of light toward where it came from: there is air
LOOKED_AT = 1000  # hits of a row that is being taken


def stations_source(doubt: str = "") -> Source:
    """Of where stations stand; with the reason, where they are in doubt."""
    return Source(STATION, doubt or 0)


@dataclass(frozen=True, eq=False)
class RowHits:
    """The hits of one row that count, in the world.

    Attributes
    ----------
    row : its id; ``keys`` of the hits
    what : the name of their source: "hits", or "plane hits" of those that a 2D shape's plane was touched with
    centers, approach : (n, 3) tip centers, and where the tip was shortly before; NaN where it is not known
    poses : (n, 7) the last axis at each hit, in the instrument's frame
    pull_off : (3,) where the tip was at the finish, or None
    calibrations, stations : (n,) ids
    finished : a person said so
    left_out : how many more there are, while it is being taken
    scanned : how many of them, the last, are points of a scan
    together : (n, 3, k) how they err together by where on an edge they are, where they are edges of light
    own_u_mm : (n,) standard uncertainty of each, where they are of several rows; ``u_hit_mm`` is the worst
    """

    row: int
    keys: tuple[str, ...]
    centers: Array
    approach: Array
    poses: Array
    pull_off: Array | None
    calibrations: Indices
    stations: Indices
    kit: Kit
    finished: bool
    u_hit_mm: float
    gaps: tuple[tuple[int, float], ...] = ()
    what: str = "hits"
    left_out: int = 0
    scanned: int = 0
    together: Array | None = None
    own_u_mm: Array | None = None

    @classmethod
    def of_light(cls, row: int, given: GivenPoints, scan: HitSet, kit: Kit, prefix: str) -> RowHits:
        """Points of a scan, each with the pose of its line: they are where they were seen, without a tip.

        Notes
        -----
        Errors of the light are each point's own, those of the arm are shared by a whole line: of k points a line the mean
        errs as if each had k times the arm's variance. Common practice in fits of many points that come in few groups; the
        groups' variance is as its maker states. That a slanted light errs more is not told here.
        """
        lines, count = given.lines, len(given.lines)
        calibrations = scan.calibrations[lines]
        u_light = max(kit.calibrations[c].light.u_point_mm for c in set(calibrations.tolist()))  # type: ignore[union-attr]
        a_line = count / len(np.unique(lines))
        return cls(
            row=row, keys=tuple(f"{prefix}{k}" for k in range(count)), centers=given.points,
            approach=_before(given, scan, kit), poses=scan.poses[lines], pull_off=None,
            calibrations=calibrations, stations=scan.stations[lines], kit=kit, finished=True, scanned=count,
            u_hit_mm=float(np.sqrt(u_light**2 + given.u_mm**2 + (a_line - 1) * scan.u_hit_mm**2)),
            together=_together(given),
        )  # fmt: skip

    @classmethod
    def joined(cls, parts: Sequence[RowHits]) -> RowHits:
        """Hits of several rows, told one by one."""
        each: dict[str, Any] = {
            name: np.concatenate([getattr(part, name) for part in parts])
            for name in ("centers", "approach", "poses", "calibrations", "stations", "u_hits_mm")
        }
        own = each.pop("u_hits_mm")
        keys = tuple(key for part in parts for key in part.keys)
        return replace(parts[0], keys=keys, u_hit_mm=float(own.max()), own_u_mm=own, gaps=(), pull_off=None, **each)

    def some(self, which: Indices) -> RowHits:
        """Those of some numbers."""
        each: dict[str, Any] = {
            name: None if (values := getattr(self, name)) is None else values[which]
            for name in ("centers", "approach", "poses", "calibrations", "stations", "together", "own_u_mm")
        }
        return replace(self, keys=tuple(self.keys[k] for k in which.tolist()), **each)

    @cached_property
    def u_hits_mm(self) -> Array:
        """(n,) of each hit."""
        return np.full(len(self.keys), self.u_hit_mm) if self.own_u_mm is None else self.own_u_mm

    def with_light(self, scanned: RowHits) -> RowHits:
        """Hits and points of a scan together."""
        each: dict[str, Any] = {
            name: np.concatenate([getattr(self, name), getattr(scanned, name)])
            for name in ("centers", "approach", "poses", "calibrations", "stations")
        }
        return replace(
            self, keys=(*self.keys, *scanned.keys), u_hit_mm=max(self.u_hit_mm, scanned.u_hit_mm),
            scanned=self.scanned + scanned.scanned, together=_beside(self, scanned), **each,
        )  # fmt: skip

    @property
    def source(self) -> Source:
        return Source(self.what, self.row)

    def split(self, count: int) -> tuple[RowHits, RowHits]:
        """The first so many, and the others; the pull-off goes with the others."""
        head, tail = slice(None, count), slice(count, None)
        first = replace(self._part(head), pull_off=None, what="plane hits", gaps=())
        return first, self._part(tail)

    def _part(self, some: slice) -> RowHits:
        each = {n: getattr(self, n)[some] for n in ("keys", "centers", "approach", "poses", "calibrations", "stations")}
        return replace(self, together=None if self.together is None else self.together[some], **each)

    @classmethod
    def of(cls, row: int, reading: HitSet, kit: Kit, finished: bool, first: int = 0) -> RowHits:
        """The hits of a reading that are not set aside.

        While a row is being taken, a long sweep is looked at through some of its hits, evenly spread, and the newest: so
        each hit costs the same. Once it is finished all count. ``first``: so many at the beginning are never left out.
        """
        kept = _kept(reading, kit, finished, first)
        if kept is not None and kept.row == row:
            return replace(kept, kit=kit)
        found = cls._of(row, reading, kit, finished, first)
        reading.__dict__["_row_hits"] = (*_rest_on(reading, kit), finished, first), found
        return found

    @classmethod
    def _of(cls, row: int, reading: HitSet, kit: Kit, finished: bool, first: int) -> RowHits:
        keep = ~reading.aside
        count = int(np.count_nonzero(keep))
        if not finished and count - first > LOOKED_AT:
            keep = _spread(keep, count, first)
        shown = int(np.count_nonzero(keep))
        each = reading.keys, reading.poses, reading.approach, reading.stations, reading.calibrations
        if shown < len(reading.keys):  # rarely
            each = tuple(compress(reading.keys, keep.tobytes())), *(values[keep] for values in each[1:])  # type: ignore[index]
        keys, poses, approach, stations, calibrations = each
        both = np.concatenate([poses, approach])
        tips = tip_centers(both, np.concatenate(2 * [stations]), np.concatenate(2 * [calibrations]), kit)
        return cls(
            row=row,
            keys=keys,
            centers=tips[:shown],
            approach=tips[shown:],
            poses=poses,
            pull_off=_pull_off(reading, kit),
            calibrations=calibrations,
            stations=stations,
            kit=kit,
            finished=finished,
            u_hit_mm=reading.u_hit_at(keep),
            gaps=reading.gaps,
            left_out=count - shown,
        )

    @cached_property
    def axes(self) -> Array:
        """(n, 3, 3) the last axis at each hit, in the world."""
        turned = rotations_from_quaternions(self.poses[:, 3:])
        for number in set(self.stations.tolist()):
            mine = self.stations == number
            turned[mine] = self.kit.stations[number].world_from_station.rotation @ turned[mine]
        return turned

    @property
    def calibration(self) -> ProbeCalibration:
        """The calibration of the first hit."""
        return self.kit.calibrations[int(self.calibrations[0])]

    @cached_property
    def radii_mm(self) -> Array:
        """(n,) of the tip at each hit."""
        radii = {c: self.kit.calibrations[c].radius_mm for c in set(self.calibrations.tolist())}
        return np.array([radii[c] for c in self.calibrations.tolist()])

    @property
    def one_radius(self) -> bool:
        return bool(np.ptp(self.radii_mm) < SAME_RADIUS_MM)

    @property
    def doubts(self) -> tuple[str, ...]:
        """Why the calibrations that it was read with, or the stations that it was read from, are in doubt."""
        found = [self.kit.calibrations[c].doubt for c in dict.fromkeys(self.calibrations.tolist())]
        found += [self.kit.stations[s].doubt for s in dict.fromkeys(self.stations.tolist())]
        return tuple(d for d in dict.fromkeys(found) if d)

    @property
    def gap_words(self) -> tuple[str, ...]:
        """Where a sweep has a gap."""
        return tuple(
            f"The link was lost for {seconds:.1f} s before hit {at + 1}: there the surface was not read."
            for at, seconds in self.gaps
        )

    @property
    def came_from(self) -> Array | None:
        """(3,) which way the tip went: where it was pulled off to, or else where it came from."""
        if self.pull_off is not None:
            return self.pull_off - self.centers.mean(axis=0)
        come = np.isfinite(self.approach).all(axis=1)
        return (self.approach - self.centers)[come].mean(axis=0) if come.any() else None

    def order_along(self, direction: Array) -> float:
        """-1 to 1: how surely the hits were taken one after the other along a direction, or against it."""
        along = self.centers @ direction
        order, along = np.arange(len(along)) - (len(along) - 1) / 2, along - along.mean()
        spread = float(np.sqrt((order @ order) * (along @ along)))
        return float(order @ along) / spread if spread > 0 else 0.0

    def shifts(self) -> dict[Source, Array]:
        """(n, 3, m) of the hits by each source that moves them together: offsets of probes, places of stations."""
        found: dict[Source, Array] = {} if self.together is None else {Source("edges", self.row): self.together}
        for number in dict.fromkeys(self.calibrations.tolist()):
            if u := self.kit.calibrations[number].u_offset_mm:
                mine = (self.calibrations == number)[:, None, None]
                found[Source("offset", number)] = np.where(mine, u * self.axes, 0.0)
        for number in dict.fromkeys(self.stations.tolist()):
            terms = self.kit.stations[number].pose_terms
            if terms is not None:
                turned = cross(terms[3:].T[None], self.centers[:, None]).transpose(0, 2, 1)
                moved = np.where((self.stations == number)[:, None, None], terms[:3] + turned, 0.0)
                source = stations_source(self.kit.stations[number].doubt)
                found[source] = found.get(source, 0.0) + moved
        return found


def _before(given: GivenPoints, scan: HitSet, kit: Kit) -> Array:
    """(n, 3) in the air before each; of what lies round an outline, light from above tells nothing."""
    if given.pulls is not None:
        return np.full_like(given.points, np.nan)
    return given.points - BACK_MM * _ways(given.points, scan, given.lines, kit)


def _together(given: GivenPoints) -> Array | None:
    if given.pulls is None or given.sides is None:
        return None
    found = np.zeros((*given.pulls.shape, int(given.sides.max()) + 1))
    found[np.arange(len(found)), :, given.sides] = given.pulls
    return found


def _beside(hits: RowHits, scanned: RowHits) -> Array | None:
    """What errs together in both, each by itself."""
    both = [(each.together, len(each.keys)) for each in (hits, scanned)]
    if all(together is None for together, _ in both):
        return None
    filled = [np.zeros((count, 3, 0)) if together is None else together for together, count in both]
    found = np.zeros((sum(map(len, filled)), 3, sum(each.shape[2] for each in filled)))
    found[: len(filled[0]), :, : filled[0].shape[2]] = filled[0]
    found[len(filled[0]) :, :, filled[0].shape[2] :] = filled[1]
    return found


def _ways(points: Array, scan: HitSet, lines: Indices, kit: Kit) -> Array:
    """(n, 3) of length 1, from the scanner to each point in the world."""
    poses, origins = scan.poses[lines], np.empty((len(lines), 3))
    stations, calibrations = scan.stations[lines], scan.calibrations[lines]
    for station, number in set(zip(stations.tolist(), calibrations.tolist(), strict=True)):
        mine = (stations == station) & (calibrations == number)
        light = kit.calibrations[number].light
        assert light is not None
        local = points_of_poses(poses[mine], light.axis_from_scanner.translation)
        origins[mine] = kit.stations[station].world_from_station.points(local)
    return unit(points - origins)


def _rest_on(reading: HitSet, kit: Kit) -> tuple:
    """The stations and calibrations of a reading."""
    stations, calibrations = reading.used
    return *(kit.stations.get(s) for s in stations), *(kit.calibrations.get(c) for c in calibrations)


def _kept(reading: HitSet, kit: Kit, finished: bool, first: int) -> RowHits | None:
    """The last answer, where it rested on the very same: what a row is fitted in changes more often than its hits."""
    asked, found = reading.__dict__.get("_row_hits", ((), None))
    wanted = (*_rest_on(reading, kit), finished, first)
    if len(asked) != len(wanted) or any(a is not b for a, b in zip(asked, wanted, strict=True)):
        return None
    return found


def _spread(keep: Array, count: int, first: int) -> Array:
    """Some of what is kept: the first, the newest, and every so many-th of the others."""
    every = -(-(count - first) // LOOKED_AT)
    places = np.flatnonzero(keep)
    thinned = np.zeros_like(keep)
    thinned[np.concatenate([places[:first], places[first::every], places[-1:]])] = True
    return thinned


def tip_centers(poses: Array, stations: Array, calibrations: Array, kit: Kit) -> Array:
    """Tip centers (n, 3) in the world; each hit by its own station and calibration."""
    tips = np.full((len(poses), 3), np.nan)
    if len(poses) and (stations == stations[0]).all() and (calibrations == calibrations[0]).all():  # nearly always
        local = points_of_poses(poses, kit.calibrations[int(calibrations[0])].offset_mm)
        return kit.stations[int(stations[0])].world_from_station.points(local)
    for station, cal in set(zip(stations.tolist(), calibrations.tolist(), strict=True)):
        mine = (stations == station) & (calibrations == cal) & np.isfinite(poses).all(axis=1)
        if mine.any():
            local = points_of_poses(poses[mine], kit.calibrations[cal].offset_mm)
            tips[mine] = kit.stations[station].world_from_station.points(local)
    return tips


def _pull_off(reading: HitSet, kit: Kit) -> Array | None:
    if reading.pull_off is None:
        return None
    station, cal = np.array([reading.pull_off_station]), np.array([reading.pull_off_calibration])
    return tip_centers(reading.pull_off[None], station, cal, kit)[0]
