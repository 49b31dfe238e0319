"""Perpendicularity to a datum."""

from __future__ import annotations

from typing import Literal

from ..toleranced.orientation import SQUARE, OrientationRecipe


class PerpendicularityRecipe(OrientationRecipe):
    kind: Literal["perpendicularity"] = "perpendicularity"

    def angle(self, alike: bool) -> float:
        return SQUARE if alike else 0.0


KIND = PerpendicularityRecipe
