"""What a trial has read, and what it makes of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..frames import Array, Indices


@dataclass(frozen=True, eq=False)
class Taken:
    """Readings so far, in order.

    Attributes
    ----------
    poses : (n, 7) of the last axis; a tracker's places are upright poses
    sweeps : (n,) number of the sweep, from 1
    faces : (n,) 1 or 2
    lines : per pose, (m, 2) of a scanner's line; empty where it has none
    """

    poses: Array
    sweeps: Indices
    faces: Indices
    lines: tuple[Array, ...] = ()

    def __len__(self) -> int:
        return len(self.poses)

    @classmethod
    def nothing(cls) -> Taken:
        none = np.empty(0, np.int64)
        return cls(np.empty((0, 7)), none, none)


@dataclass(frozen=True)
class Figure:
    """A number to be read from three metres: ``mm``, or ``text`` where it is none."""

    name: str
    mm: float | None = None
    text: str = ""


@dataclass(frozen=True, eq=False)
class Outcome:
    """What to do now, how far it is, and what it would come to.

    ``verdict``: running, pass, fail, not proven, not enough. ``ask``: what to do now; ``why``: a
    sentence; ``warn``: something went wrong on the way. ``drawing``: what the page draws, by kind.
    ``result``: what is kept.
    """

    verdict: str
    ask: str
    why: str = ""
    warn: str = ""
    taken: int = 0
    wanted: int = 0
    figures: tuple[Figure, ...] = ()
    drawing: dict[str, Any] = field(default_factory=dict)
    result: dict[str, Any] = field(default_factory=dict)
