"""A simulated measurement: the result and the uncertainty to be expected of each row from a given station.

Every row is given the hits that it asks for, each where it should be, and the whole sheet is worked out as ever: so what is
expected of a row goes the same way, by the same sources, as what will be found.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from ...calibration import ProbeCalibration
from ...frames import Array, Motion
from ...network.observations import InstrumentClass
from ...readings import HitSet
from ..evaluate import evaluate
from ..given import Kit, PartSurfaces, Sheet, StationPose
from ..results import RowResult

STATION, CALIBRATION = 1, 1
AWAY_MM = 2.0  # from where a tip comes, and where it goes: nearer than the far wall of a bore
STEP_MM = 1e-3


@dataclass(frozen=True, eq=False)
class ExpectedTouches:
    """Where a row is touched: ``centers`` (n, 3) of the tip, in the part, and which way the air is (n, 3)."""

    centers: Array
    outward: Array

    def some(self, keep: Array) -> ExpectedTouches:
        return ExpectedTouches(self.centers[keep], self.outward[keep])


@dataclass(frozen=True, eq=False)
class RehearsedInstrument:
    """``stated`` by the maker of a polar instrument, else ``u_hit_mm`` of any hit; ``u_radius_mm`` of its tip's radius."""

    u_hit_mm: float
    stated: InstrumentClass | None
    tip_radius_mm: float
    u_radius_mm: float = 0.0

    def u_at(self, local: Array) -> float:
        """Standard uncertainty (mm) of a hit at a place (3,) from where it stands."""
        return self.u_hit_mm if self.stated is None else self.stated.u_at(np.reshape(local, (1, 3)))


def touches_at(spots: Array, outward: Array, instrument: RehearsedInstrument) -> ExpectedTouches:
    """The tip's centers where it touches some spots (n, 3)."""
    return ExpectedTouches(spots + instrument.tip_radius_mm * outward, outward)


def outward_at(recipe, spots: Array, surfaces: PartSurfaces | None) -> Array | None:
    """(n, 3) away from a row's nominal at some spots, by small steps; None where it has none."""
    steps = STEP_MM * np.vstack([np.eye(3), -np.eye(3)])
    heights = recipe.height_over_nominal((spots[:, None] + steps).reshape(-1, 3), surfaces)
    if heights is None:
        return None
    heights = np.reshape(heights, (-1, 2, 3))
    found = (heights[:, 0] - heights[:, 1]) / (2 * STEP_MM)
    return found / np.maximum(np.linalg.norm(found, axis=1), 1e-9)[:, None]


def rehearse(
    sheet: Sheet,
    touched: Mapping[int, ExpectedTouches],
    stand: Array,
    instrument: RehearsedInstrument,
    surfaces: PartSurfaces | None = None,
) -> Mapping[int, RowResult]:
    """Simulated result of each row with the instrument at ``stand`` (3,) in the part, upright as it is.

    ``touched``: where rows are touched; others wait.
    """
    readings = {row: _reading(row, each, stand, instrument) for row, each in touched.items() if len(each.centers)}
    calibration = ProbeCalibration(CALIBRATION, np.zeros(3), 2 * instrument.tip_radius_mm, instrument.u_radius_mm)
    kit = Kit({STATION: StationPose(STATION, Motion.identity())}, {CALIBRATION: calibration})
    rows = tuple(row if row.finished or row.id not in readings else replace(row, finished=True) for row in sheet.rows)
    return evaluate(Sheet(rows, sheet.alignment, sheet.rule), readings, kit, None, surfaces)[0]


def _reading(row: int, touches: ExpectedTouches, stand: Array, instrument: RehearsedInstrument) -> HitSet:
    local = touches.centers - stand
    n = len(local)
    upright, ones = np.tile([1.0, 0, 0, 0], (n, 1)), np.ones(n, np.int64)
    away = np.hstack([local + AWAY_MM * touches.outward, upright])
    return HitSet(
        tuple(f"{row}.{k}" for k in range(n)), np.hstack([local, upright]), away, np.zeros(n, bool), STATION * ones,
        CALIBRATION * ones, np.arange(n, dtype=float), away[-1], STATION, CALIBRATION, u_hit_mm=instrument.u_hit_mm,
        stated={} if instrument.stated is None else {STATION: instrument.stated},
    )  # fmt: skip
