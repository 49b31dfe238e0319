"""Angularity: at a stated angle to a datum."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...features import direction_of, own_direction, plane_of
from ...frames import angle_between
from ..toleranced.orientation import SQUARE, OrientationRecipe

LEAST_RAD = np.radians(0.01)


class AngularityRecipe(OrientationRecipe):
    """``angle_rad``: as the drawing says it, between the surfaces or axes themselves."""

    kind: Literal["angularity"] = "angularity"
    angle_rad: Annotated[float, Field(gt=0, lt=SQUARE)]

    @classmethod
    def with_nominals(cls, raw: dict[str, Any], nominals: Mapping[int, Any]) -> dict[str, Any] | None:
        """At the angle at which the nominals stand; square and parallel ones have tolerances of their own."""
        first, datum = nominals.get(raw["of"][0]), nominals.get(raw["to_datum"])
        if first is None or datum is None or direction_of(first) is None or direction_of(datum) is None:
            return None
        between = angle_between(own_direction(first), own_direction(datum))
        alike = (plane_of(first) is None) == (plane_of(datum) is None)
        angle = between if alike else SQUARE - between
        return {**raw, "angle_rad": angle} if LEAST_RAD < angle < SQUARE - LEAST_RAD else None

    def angle(self, alike: bool) -> float:
        return self.angle_rad if alike else SQUARE - self.angle_rad


KIND = AngularityRecipe
