"""The state of a calibration or check after the readings so far."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any


@dataclass(frozen=True)
class Figure:
    """A number to be read from three metres: ``mm``, or ``text`` where it is none."""

    name: str
    mm: float | None = None
    text: str = ""


@dataclass(frozen=True, eq=False)
class Outcome:
    """State of a trial: next instruction, progress and provisional result.

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

    def as_data(self) -> dict[str, Any]:
        """Plain data, to be kept: a finished one shows what it found then."""
        return asdict(self)

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> Outcome:
        return cls(**{**data, "figures": tuple(Figure(**f) for f in data["figures"])})
