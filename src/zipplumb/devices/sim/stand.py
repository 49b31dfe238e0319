"""Where a part stands before the stand-in arm: as warm as it is, with what nests are round it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...core.frames import Array, Motion


@dataclass(frozen=True, eq=False)
class Stand:
    """Takes the part's coordinates at 20 °C to the arm's base.

    ``scale`` : by which the part is longer than it is drawn, for being warm
    ``nests`` : (3,) centers of a 38.1 mm ball in them, in the base's axes, by name
    """

    motion: Motion
    scale: float = 1.0
    temperature_c: float | None = None
    nests: Mapping[str, Array] = field(default_factory=dict)

    @classmethod
    def of_data(cls, raw: Mapping[str, Any]) -> Stand:
        nests = {name: np.array(place, float) for name, place in raw["nests"].items()}
        motion = Motion.from_quaternion(raw["quaternion"], raw["translation_mm"])
        return cls(motion, raw["scale"], raw["temperature_c"], nests)

    def points(self, points: Array) -> Array:
        return self.motion.points(self.scale * np.asarray(points))

    def vectors(self, vectors: Array) -> Array:
        return self.motion.vectors(vectors)

    def inverse(self) -> Stand:
        back = self.motion.inverse()
        return Stand(Motion(back.rotation, back.translation / self.scale), 1 / self.scale)
