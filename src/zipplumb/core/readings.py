"""Raw readings as they came: one batch of hits, of a row or of a calibration or check alike."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import compress
from typing import Any

import numpy as np

from .fingerprints import fingerprint
from .frames import Array, Indices
from .network.observations import InstrumentClass


def _none() -> Indices:
    return np.empty(0, np.int64)


@dataclass(frozen=True, eq=False)
class HitSet:
    """The readings of one row, or of one calibration or check.

    Attributes
    ----------
    keys : names of the hits, in time order; they also are the fingerprint of the readings
    poses : (n, 7) last axis at each hit, instrument frame; a tracker's places are upright poses
    approach : (n, 7) last axis shortly before; NaN where it is not known
    aside : (n,) bool, hits that do not count (set aside or undone)
    stations, calibrations : (n,) ids; 0 where there is none
    times : (n,) seconds since 1970
    pull_off : (7,) pose at the finish, or None
    sweeps : (n,) number of the press that each was taken with, from 1
    faces : (n,) of a tracker, 1 or 2
    lines : per hit, (m, 2) of a scanner's line; empty where there are none
    u_hit_mm : standard uncertainty of one hit, as the maker stated when they were read; the worst of them
    stated : by station, what the maker states of a polar instrument, as it was when they were read; the worst of each
    gaps : (which hit, s) before which hit the link was lost while the surface was followed, and for how long
    """

    keys: tuple[str, ...]
    poses: Array
    approach: Array
    aside: Array
    stations: Indices
    calibrations: Indices
    times: Array
    pull_off: Array | None = None
    pull_off_station: int | None = None
    pull_off_calibration: int | None = None
    sweeps: Indices = field(default_factory=_none)
    faces: Indices = field(default_factory=_none)
    lines: tuple[Array, ...] = ()
    u_hit_mm: float = 0.0
    gaps: tuple[tuple[int, float], ...] = ()
    stated: Mapping[int, InstrumentClass] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.keys)

    @classmethod
    def of_poses(cls, poses: Array, sweeps: Array | None = None, faces: Array | None = None, lines: tuple = ()) -> HitSet:
        """Of poses (n, 7) alone, all of which count."""
        n = len(poses)
        none, ones = np.zeros(n, np.int64), np.ones(n, np.int64)
        return cls(
            tuple(str(k) for k in range(n)), np.reshape(np.asarray(poses, float), (-1, 7)), np.full((n, 7), np.nan),
            np.zeros(n, bool), none, none, np.arange(n, dtype=float), sweeps=ones if sweeps is None else np.asarray(sweeps),
            faces=ones if faces is None else np.asarray(faces), lines=lines,
        )  # fmt: skip

    @classmethod
    def joined(cls, parts: Sequence[HitSet]) -> HitSet:
        """Several as one, in order of time; the pull-off is the last one's that has one."""
        if len(parts) == 1:
            return parts[0]
        order = np.argsort(np.concatenate([part.times for part in parts]), kind="stable")
        each: dict[str, Any] = {
            name: np.concatenate([getattr(part, name) for part in parts])[order]
            for name in ("poses", "approach", "aside", "stations", "calibrations", "times", "sweeps", "faces")
            if all(len(getattr(part, name)) == len(part) for part in parts)
        }
        keys = [key for part in parts for key in part.keys]
        place = np.argsort(order)
        begins = np.cumsum([0, *(len(part) for part in parts)])
        gaps = [(int(place[begin + at]), s) for begin, part in zip(begins, parts, strict=False) for at, s in part.gaps]
        last = max(parts, key=lambda part: (part.pull_off is not None, part.times.max()))
        return replace(
            last, keys=tuple(keys[k] for k in order), u_hit_mm=max(part.u_hit_mm for part in parts), lines=(),
            gaps=tuple(sorted(gaps)), stated=_all_stated(parts), **each,
        )  # fmt: skip

    @property
    def counted(self) -> HitSet:
        """Those hits that count, as a reading."""
        keep = ~self.aside
        if keep.all():
            return self
        each = {
            name: getattr(self, name)[keep]
            for name in ("poses", "approach", "aside", "stations", "calibrations", "times", "sweeps", "faces")
            if len(getattr(self, name)) == len(keep)
        }
        keys = tuple(compress(self.keys, keep.tolist()))
        lines = tuple(line for line, good in zip(self.lines, keep, strict=True) if good) if self.lines else ()
        return replace(self, keys=keys, lines=lines, **each)

    @cached_property
    def digest(self) -> str:
        """Of what was read and which of it counts; raw readings are named by their keys."""
        pull_off = b"" if self.pull_off is None else self.pull_off.tobytes()
        marks = (self.aside.tobytes(), self.stations.tobytes(), self.calibrations.tobytes())
        away = (self.pull_off_station, self.pull_off_calibration)
        stated = sorted(self.stated.items())
        return fingerprint("\x1e".join(self.keys), self.u_hit_mm, repr(stated), *marks, pull_off, *away)

    @cached_property
    def stations_counted(self) -> frozenset[int]:
        """The stations that its hits which count were read from."""
        return frozenset(_distinct(self.counted.stations))

    def of_stations(self, ids: Collection[int]) -> HitSet:
        """With the hits of other stations aside."""
        if all(station in ids for station in self.used[0]):
            return self
        elsewhere = ~np.isin(self.stations, list(ids))
        away = self.pull_off if self.pull_off_station in ids else None
        return replace(self, aside=np.logical_or(self.aside, elsewhere), pull_off=away)

    def u_hit_at(self, some: Array) -> float:
        """Standard uncertainty (mm) of the worst of some hits (n,) bool: of a polar instrument's at the range that each was."""
        if not self.stated:
            return self.u_hit_mm
        worst = 0.0
        stations, places = self.stations[some.astype(bool)], self.poses[some.astype(bool), :3]
        for station in _distinct(stations):
            stated = self.stated.get(station)
            if stated is None:
                return self.u_hit_mm
            worst = max(worst, stated.u_at(places[stations == station]))
        return worst or self.u_hit_mm

    @cached_property
    def used(self) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Stations and calibrations that it names, those of the pull-off too."""
        stations, calibrations = _distinct(self.stations), _distinct(self.calibrations)
        if self.pull_off_station is not None:
            stations.add(self.pull_off_station)
        if self.pull_off_calibration is not None:
            calibrations.add(self.pull_off_calibration)
        return tuple(sorted(stations)), tuple(sorted(calibrations))

    @cached_property
    def station_names(self) -> tuple[tuple[str, int], ...]:
        """The stations, as a graph names them."""
        return tuple(("station", s) for s in self.used[0])


def _all_stated(parts: Sequence[HitSet]) -> dict[int, InstrumentClass]:
    found: dict[int, InstrumentClass] = {}
    for part in parts:
        for station, stated in part.stated.items():
            found[station] = stated.or_worse(found.get(station))
    return found


def _distinct(numbers: Indices) -> set[int]:
    if len(numbers) and (numbers == numbers[0]).all():  # nearly always
        return {int(numbers[0])}
    return set(numbers.tolist())
