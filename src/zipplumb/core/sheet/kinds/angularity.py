"""Angularity: at a stated angle to a datum."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import Field

from ..toleranced.orientation import SQUARE, OrientationRecipe


class AngularityRecipe(OrientationRecipe):
    """``angle_rad``: as the drawing says it, between the surfaces or axes themselves."""

    kind: Literal["angularity"] = "angularity"
    angle_rad: Annotated[float, Field(gt=0, lt=SQUARE)]

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        return None  # the angle has to be typed

    def angle(self, alike: bool) -> float:
        return self.angle_rad if alike else SQUARE - self.angle_rad


KIND = AngularityRecipe
