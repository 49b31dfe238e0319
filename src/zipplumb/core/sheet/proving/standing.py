"""A sheet as it stands, and as it would with more hits: only what one row rests on is worked out again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from ...fingerprints import fingerprint
from ...frames import Array, Indices
from ...readings import HitSet
from ..base import RowRecipe
from ..clouds import Kept
from ..evaluate import evaluate
from ..given import Kit, PartSurfaces, Sheet, StationPose
from ..memory import Memory
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
        more = {}
        for touched, places in centers.items():
            found = self.results[touched].feature
            assert found is not None
            more[touched] = with_hits(self.readings[touched], found, places, self.stations)
        return self._anew(tuple(judged), self.sheet, more)

    def with_recipe(self, judged: int, row: int, recipe: RowRecipe) -> RowResult:
        """The result of a row, were another asked otherwise."""
        return self._anew((judged,), self.sheet.asked_as({row: recipe}), {})[judged]

    def _anew(self, judged: tuple[int, ...], sheet: Sheet, more: Mapping[int, HitSet]) -> dict[int, RowResult]:
        needed = self.judged_by(judged, sheet)
        readings = {i: self.readings[i] for i in needed if i in self.readings} | dict(more)
        some = replace(sheet, rows=tuple(sheet.of(needed)))
        results, _ = evaluate(some, readings, self.kit, self.memory, self.surfaces, self.kept)
        return {row: results[row] for row in judged}

    def judged_by(self, judged: Iterable[int], sheet: Sheet | None = None) -> set[int]:
        """The rows, all that they rest on, and what they are judged in; stations rest on all that ties them."""
        sheet = sheet or self.sheet
        every = [*judged, *(() if sheet.alignment is None else (sheet.alignment,))]
        if len(self.kit.stations) > 1:
            every += [each.id for each in sheet.rows if each.recipe.in_network]
        return rests_on(sheet, every)


def rests_on(sheet: Sheet, rows: Iterable[int]) -> set[int]:
    """The rows and all that their recipes name, and so on."""
    left, found = list(rows), set[int]()
    while left:
        now = left.pop()
        if now not in found and now in sheet.index:
            found.add(now)
            left += [needed.id for needed in sheet.rows[sheet.index[now]].needs if needed.what != "station"]
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
