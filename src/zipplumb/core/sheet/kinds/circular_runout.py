"""Circular run-out: as the part turns on the datum's axis, what a dial reads at one place of a circle or a face."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from ...alignment import Alignment
from ...shapes import Arc, Circle, Plane
from ..results import FoundFeature
from ..toleranced.base import Member, Zone
from ..toleranced.place import AboutAxisRecipe
from ..toleranced.run_out import touched_of, turned_about


class CircularRunoutRecipe(AboutAxisRecipe):
    kind: Literal["circular_runout"] = "circular_runout"

    def member(self, row: int, found: FoundFeature) -> Member:
        return touched_of(row, found, (Circle, Arc, Plane), "a circle, or a face touched on one circle")

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        return turned_about(member, self.axis(member, found), system)


KIND = CircularRunoutRecipe
