"""Ways of taking hits while a tip moves: by distance, by time, when it is still; or by presses only.

Each is fed every reading of the stream, in order, and answers whether this one is a hit.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from typing import Literal, Protocol

import numpy as np

from ..frames import Array

Way = Literal["distance", "time", "still", "press"]


class Taking(Protocol):
    """A way of taking."""

    def begin(self, at_s: float, tip: Array) -> None:
        """The first hit was taken here and now."""

    def feed(self, at_s: float, tip: Array) -> bool:
        """Whether the next reading (time in s, tip (3,) in mm) is a hit."""


def _checked(**values: float) -> None:
    for name, value in values.items():
        if not (np.isfinite(value) and value > 0):
            raise ValueError(f"{name} must be above zero")


@dataclass
class ByDistance:
    """A hit whenever the tip is ``step_mm`` away from the last one."""

    step_mm: float
    _last: Array | None = field(default=None, init=False, compare=False)

    def __post_init__(self):
        _checked(step_mm=self.step_mm)

    def begin(self, at_s: float, tip: Array) -> None:
        self._last = np.array(tip, float)

    def feed(self, at_s: float, tip: Array) -> bool:
        if self._last is not None and np.linalg.norm(tip - self._last) < self.step_mm:
            return False
        self.begin(at_s, tip)
        return True


@dataclass
class ByTime:
    """A hit every ``every_s`` seconds; readings that come late do not shift the ones after."""

    every_s: float
    _due: float | None = field(default=None, init=False, compare=False)

    def __post_init__(self):
        _checked(every_s=self.every_s)

    def begin(self, at_s: float, tip: Array) -> None:
        self._due = at_s + self.every_s

    def feed(self, at_s: float, tip: Array) -> bool:
        if self._due is None:
            self.begin(at_s, tip)
            return True
        if at_s < self._due - 1e-9:
            return False
        missed = np.floor((at_s - self._due + 1e-9) / self.every_s)
        self._due += (missed + 1) * self.every_s
        return True


@dataclass
class WhenStill:
    """A hit when the tip has kept within ``within_mm`` for ``for_s``, at least ``apart_mm`` from the last one."""

    within_mm: float = 0.05
    for_s: float = 0.5
    apart_mm: float = 2.0
    _recent: deque[tuple[float, Array]] = field(default_factory=deque, init=False, compare=False)
    _last: Array | None = field(default=None, init=False, compare=False)

    def __post_init__(self):
        _checked(within_mm=self.within_mm, for_s=self.for_s, apart_mm=self.apart_mm)

    def begin(self, at_s: float, tip: Array) -> None:
        self._last = np.array(tip, float)
        self._recent.clear()

    def feed(self, at_s: float, tip: Array) -> bool:
        tip = np.array(tip, float)
        self._recent.append((at_s, tip))
        while len(self._recent) > 1 and self._recent[1][0] <= at_s - self.for_s + 1e-9:
            self._recent.popleft()
        if self._last is not None and np.linalg.norm(tip - self._last) < self.apart_mm:
            return False
        if self._recent[-1][0] - self._recent[0][0] < self.for_s - 1e-9:
            return False
        places = np.array([place for _, place in self._recent])
        if np.linalg.norm(places - places.mean(axis=0), axis=1).max() > self.within_mm:
            return False
        self.begin(at_s, tip)
        return True


@dataclass
class ByPress:
    """Nothing but presses."""

    def begin(self, at_s: float, tip: Array) -> None: ...

    def feed(self, at_s: float, tip: Array) -> bool:
        return False


def way_of_taking(way: Way, spacing_mm: float, every_s: float) -> Taking:
    """The way of taking while the button is held. ``spacing_mm``: between hits, by distance or when still."""
    made: dict[Way, Taking] = {
        "distance": ByDistance(spacing_mm), "time": ByTime(every_s), "still": WhenStill(apart_mm=spacing_mm),
        "press": ByPress(),
    }  # fmt: skip
    return made[way]
