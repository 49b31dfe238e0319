"""Profile of a line: a section of a surface that was followed, or an outline that was touched."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from ...alignment import Alignment
from ...features import Feature
from ...frames import Array
from ...sections import TipPath
from ...shapes import Circle, Ellipse, Slot
from ...uncertainty import exact
from ..results import FoundFeature
from ..toleranced.base import Member, Touched, Zone
from ..toleranced.place import BOTH_SIDES, there
from ..toleranced.profile import ProfileRecipe


class LineProfileRecipe(ProfileRecipe):
    kind: Literal["line_profile"] = "line_profile"
    for_types = (TipPath, Circle, Ellipse, Slot)
    for_words = "section curve or outline"

    def member(self, row: int, found: FoundFeature) -> Member:
        if found.feature is None or not isinstance(found.shape, TipPath):
            return super().member(row, found)
        places = Feature(found.name, Touched(found.shape.centers), found.feature.local, exact(6))
        return Member(found.name, found, places)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        path = member.found.feature
        if path is None or not isinstance(path.shape, TipPath):
            return super().zone_for(member, found, system)
        nominal = self.nominal(member)

        def out(path: TipPath) -> tuple[Array, Array]:
            """Where it was touched, and how far out of the material from the middle of the zone."""
            places, off = nominal.touched(path.centers, path.radius)
            return places, off - self.offset_mm

        def size(points: Array, path: TipPath) -> float:
            return BOTH_SIDES * float(np.abs(out(path)[1]).max())

        def off(points: Array, path: TipPath) -> Array:
            places, by = out(path)
            return by[:, None] * nominal.feet(places)[1]

        # the path moves with its hits and its tip; the places only show where it is worst
        return Zone(size, (path,), there(system), off=off)


KIND = LineProfileRecipe
