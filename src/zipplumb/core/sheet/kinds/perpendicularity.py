"""Perpendicularity to a datum."""

from __future__ import annotations

from typing import Literal

from ..toleranced.orientation import SQUARE, OrientationRecipe


class PerpendicularityRecipe(OrientationRecipe):
    kind: Literal["perpendicularity"] = "perpendicularity"
    round_zone = True

    def angle(self, alike: bool) -> float:
        return SQUARE if alike else 0.0


KIND = PerpendicularityRecipe
