"""A sheet as it stands, and as it would with more hits: only what one row rests on is worked out again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from ...fingerprints import fingerprint
from ...frames import Array, Indices
from ...readings import HitSet
from ..clouds import Kept
from ..evaluate import Memory, evaluate
from ..given import Kit, PartSurfaces, Sheet, StationPose
from ..results import FoundFeature, RowResult

LATER_S = 1.0  # after the last hit that is there


@dataclass(frozen=True, eq=False)
class Standing:
    """A sheet as it is worked out. ``memory``: of that, so that only what changes is worked out again."""

    sheet: Sheet
    readings: Mapping[int, HitSet]
    kit: Kit
    results: Mapping[int, RowResult]
    memory: Memory | None = None
    surfaces: PartSurfaces | None = None
    kept: Kept = lambda key: None

    @property
    def stations(self) -> dict[int, StationPose]:
        """Where each stands that is tied."""
        known = self.kit.stations if self.memory is None else self.memory.stations
        return {i: station for i, station in known.items() if isinstance(station, StationPose)}

    def takes_more(self, row: int) -> bool:
        """It was touched, and may be touched once more."""
        place = self.sheet.index.get(row)
        return place is not None and row in self.readings and self.sheet.rows[place].recipe.takes_more

    def with_more(self, judged: Iterable[int], centers: Mapping[int, Array]) -> dict[int, RowResult]:
        """The results of some rows, were there more hits on some: ``centers`` (n, 3) by row, of the tip, in the world."""
        judged = tuple(judged)
        needed = self._needed(judged)
        readings = {i: self.readings[i] for i in needed if i in self.readings}
        for touched, places in centers.items():
            found = self.results[touched].feature
            assert found is not None
            readings[touched] = with_hits(readings[touched], found, places, self.stations)
        sheet = replace(self.sheet, rows=tuple(self.sheet.of(needed)))
        results, _ = evaluate(sheet, readings, self.kit, self.memory, self.surfaces, self.kept)
        return {row: results[row] for row in judged}

    def _needed(self, judged: Iterable[int]) -> set[int]:
        """The rows and all that they rest on; stations rest on all that ties them."""
        index, rows = self.sheet.index, self.sheet.rows
        left = [*judged, *(() if self.sheet.alignment is None else (self.sheet.alignment,))]
        if len(self.kit.stations) > 1:
            left += [each.id for each in rows if each.recipe.in_network]
        found: set[int] = set()
        while left:
            now = left.pop()
            if now not in found and now in index:
                found.add(now)
                left += [needed.id for needed in rows[index[now]].needs if needed.what != "station"]
        return found


def with_hits(reading: HitSet, feature: FoundFeature, centers: Array, stations: Mapping[int, StationPose]) -> HitSet:
    """A reading with more hits, each as the nearest one that counts was taken, only elsewhere. ``centers``: (n, 3), world."""
    assert feature.centers is not None
    place_of = {key: k for k, key in enumerate(reading.keys)}
    counted = [(place_of[key], k) for k, key in enumerate(feature.counted) if key in place_of]
    known = feature.centers[[k for _, k in counted]]
    nearest = np.argmin(np.linalg.norm(centers[:, None] - known[None], axis=2), axis=1)
    like = np.array([counted[k][0] for k in nearest])
    turns = [stations[int(reading.stations[k])].world_from_station.inverse() for k in like]
    moved = np.array([turn.vectors(to - known[k]) for turn, to, k in zip(turns, centers, nearest, strict=True)])
    poses, approach = reading.poses[like].copy(), reading.approach[like].copy()
    poses[:, :3] += moved
    approach[:, :3] += moved
    name = f"foretold {fingerprint(centers.tobytes())}"
    more = replace(
        reading, keys=tuple(f"{name}.{k}" for k in range(len(like))), poses=poses, approach=approach,
        aside=np.zeros(len(like), bool), stations=reading.stations[like], calibrations=reading.calibrations[like],
        times=reading.times.max() + LATER_S * (1 + np.arange(len(like))), sweeps=_some(reading.sweeps, like),
        faces=_some(reading.faces, like), lines=(), gaps=(),
    )  # fmt: skip
    return HitSet.joined([reading, more])


def _some(values: Indices, which: Indices) -> Indices:
    return values[which] if len(values) else values
