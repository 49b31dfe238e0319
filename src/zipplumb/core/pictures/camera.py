"""Where a picture is seen from: a parallel projection."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from ..errors import InputError
from ..frames import Array, cross, unit

UPRIGHT = np.array([0.0, 0, 1])
# from where a part is seen, in the part: towards the eye
SIDES = {
    "the front": (0.0, -1, 0), "the right": (1.0, 0, 0), "the back": (0.0, 1, 0), "the left": (-1.0, 0, 0),
    "above": (0.0, 0, 1), "below": (0.0, 0, -1),
}  # fmt: skip
FILLED = 0.92  # of the picture by the part
LEAST_MM, MOST_MM = 1e-3, 1e6
LEAST_SINE = 1e-6  # between the line of sight and what is up


@dataclass(frozen=True, eq=False)
class Camera:
    """``eye``: (3,) from the middle towards the eye; ``up``: (3,) what is up on paper; ``middle``: (3,) mm, in the middle of
    the picture; ``half_mm``: half of what its height shows."""

    eye: Array
    up: Array
    middle: Array
    half_mm: float

    @classmethod
    def of(cls, told: Mapping[str, Any]) -> Camera:
        """From numbers by their names. Raises InputError where they see nothing."""
        try:
            eye, up, middle = (np.array(told[name], float).reshape(3) for name in ("eye", "up", "middle"))
            half = float(told["half_mm"])
        except (KeyError, TypeError, ValueError, OverflowError):
            eye, up, middle, half = np.zeros(3), UPRIGHT, np.zeros(3), 0.0
        numbers = np.concatenate([eye, up, middle, [half]])
        sees = np.isfinite(numbers).all() and np.abs(numbers).max() <= MOST_MM and half >= LEAST_MM
        if not sees or np.linalg.norm(np.cross(eye, up)) <= LEAST_SINE * np.linalg.norm(eye) * np.linalg.norm(up):
            raise InputError("From there nothing is seen.", "Nothing was kept.", "Turn the part on the stage, and try again.")
        return cls(unit(eye), unit(up), middle, half)

    @classmethod
    def on(cls, eye: Array, corners: Array, wide_by_high: float) -> Camera:
        """All of some places (n, 3), from one side."""
        eye = unit(eye)
        up = UPRIGHT if np.linalg.norm(np.cross(eye, UPRIGHT)) > LEAST_SINE else np.array([0.0, 1, 0])
        seen = corners @ cls(eye, up, np.zeros(3), 1.0)._axes.T
        low, high = seen.min(axis=0), seen.max(axis=0)
        size = high - low
        half = float(max(size[1] / 2, size[0] / 2 / wide_by_high, LEAST_MM)) / FILLED
        return cls(eye, up, (low + high) / 2 @ cls(eye, up, np.zeros(3), 1.0)._axes, half)

    def data(self) -> dict[str, Any]:
        named = {"eye": self.eye, "up": self.up, "middle": self.middle}
        return {name: value.round(6).tolist() for name, value in named.items()} | {"half_mm": round(self.half_mm, 6)}

    def wider(self, share: float) -> Camera:
        """The same, showing so many times as much."""
        return replace(self, half_mm=self.half_mm * share)

    @cached_property
    def _axes(self) -> Array:
        """(3, 3): to the right, up, and away from the eye."""
        right = unit(cross(self.up, self.eye))
        return np.stack([right, cross(self.eye, right), -self.eye])

    @property
    def away(self) -> Array:
        """(3,) the line of sight."""
        return -self.eye

    def on_paper(self, points: Array, wide: float, high: float) -> Array:
        """(n, 3) pixels to the right and down in a picture ``wide`` by ``high``, and depth, mm."""
        seen = (points - self.middle) @ self._axes.T
        per_mm = self.pixels_per_mm(high)
        return np.column_stack([wide / 2 + per_mm * seen[:, 0], high / 2 - per_mm * seen[:, 1], seen[:, 2]])

    def pixels_per_mm(self, high: float) -> float:
        return high / (2 * self.half_mm)
