"""A stand-in by the name of its kind."""

from __future__ import annotations

from pathlib import Path

from .arm import SimulatedArm, Truth
from .stand_in import StandIn
from .stand_in import serve as serve_stand_in
from .tracker import Shop, SimulatedRadar, SimulatedTracker


def make(kind: str, real: Path, rate_hz: float, pace: float) -> StandIn:
    """``kind``: arm (7 axes), arm6, tracker or radar; ``real``: the file of what only it knows."""
    if kind in ("arm", "arm6"):
        return SimulatedArm(Truth.read(real), rate_hz, pace, axes=6 if kind == "arm6" else 7)
    return (SimulatedTracker if kind == "tracker" else SimulatedRadar)(Shop.read(real, kind), rate_hz, pace)


async def serve(kind: str, real: Path, port: int, control: int, rate_hz: float, pace: float) -> None:
    await serve_stand_in(make(kind, real, rate_hz, pace), port, control)
