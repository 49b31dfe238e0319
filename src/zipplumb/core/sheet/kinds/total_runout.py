"""Total run-out: as the part turns on the datum's axis, what a dial reads that goes along the whole surface."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from ...alignment import Alignment
from ...shapes import Cylinder, Plane
from ..results import FoundFeature
from ..toleranced.base import Member, Zone
from ..toleranced.place import AboutAxisRecipe
from ..toleranced.run_out import touched_of, turned_about


class TotalRunoutRecipe(AboutAxisRecipe):
    kind: Literal["total_runout"] = "total_runout"

    def member(self, row: int, found: FoundFeature) -> Member:
        return touched_of(row, found, (Cylinder, Plane), "a bore, a boss or a face")

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        return turned_about(member, self.axis(member, found), system)


KIND = TotalRunoutRecipe
