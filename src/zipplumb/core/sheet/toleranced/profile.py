"""The base of the profile tolerances: every place touched within a zone about the nominal (ISO 1660)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...errors import DeriveError
from ...frames import Array
from ...shapes import Circle, Ellipse, Slot, Torus
from ...units import mm
from ..results import FoundFeature
from .base import KEPT, Member, Zone, surface_of
from .place import BOTH_SIDES, there
from .shift import InClearanceRecipe

STEP_MM = 1e-4


class ProfileRecipe(InClearanceRecipe):
    """Evaluated in the system of its datums where it has some, else in the active alignment.

    ``offset_mm``: how far out of the material the middle of the zone lies (an unequal zone).
    """

    offset_mm: Annotated[float, Field(gt=-1e6, lt=1e6)] = 0.0
    for_types: ClassVar[tuple[type, ...]]
    for_words: ClassVar[str]

    def member(self, row: int, found: FoundFeature) -> Member:
        if not isinstance(found.shape, self.for_types):
            raise DeriveError(f"{found.name} is no {self.for_words}.", KEPT, f"Choose a {self.for_words} that was touched.")
        return surface_of(row, found)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        system = there(system)
        nominal = self.nominal(member)
        air = float(member.found.side.air) if member.found.side is not None and _closed(nominal) else 1.0

        def out(points: Array) -> Array:
            """How far out of the material each lies, from the middle of the zone."""
            return air * np.asarray(nominal.distance(points)) - self.offset_mm

        def size(points: Array) -> float:
            return BOTH_SIDES * float(np.abs(out(points)).max())

        def off(points: Array) -> Array:
            ways = np.stack(
                [nominal.distance(points + STEP_MM * e) - nominal.distance(points - STEP_MM * e) for e in np.eye(3)]
            )
            return out(points)[:, None] * air * ways.T / (2 * STEP_MM)

        def rework(points: Array, over: float) -> str:
            if np.abs(out(points)).argmax() != out(points).argmax():
                return "Material is missing there: nothing that is taken off brings it in."
            return f"Taking {mm(over / BOTH_SIDES, '.4f')} off there brings that place in."

        return Zone(size, (), system, None, off, BOTH_SIDES, out, about=True, rework=rework)


def _closed(nominal: Any) -> bool:
    """Its distance is taken from its axis or center, whatever the side of the air."""
    return not hasattr(nominal, "normal") or isinstance(nominal, Circle | Ellipse | Slot | Torus)
