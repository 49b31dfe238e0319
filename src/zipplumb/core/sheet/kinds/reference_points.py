"""Reference points with known coordinates; the scale fixed, free, or by material and temperature."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment, align_reference_points
from ...alignment.causes import likely_cause
from ...errors import AlignmentError
from ...features import center_point, point_of
from ..base import FeatureRef, Internal
from ..bases.systems import (
    KEPT,
    LEAST_U_MM,
    ByMaterial,
    SystemInputs,
    SystemRecipe,
    TypedU,
    scale_factor,
    u_scale_factor,
)


class ReferencePointsRecipe(SystemRecipe):
    kind: Literal["reference_points"] = "reference_points"
    points: Annotated[tuple[FeatureRef, ...], Field(min_length=3)]
    scale: Literal["fixed", "free"] | ByMaterial = "fixed"
    warm: Annotated[None, Internal()] = None  # its own scale says it
    u_mm: TypedU | None = None

    def also_held(self, feature: int, directions: tuple[Any, ...]) -> ReferencePointsRecipe | None:
        return self.model_copy(update={"points": (*self.points, feature)}) if "own" not in directions else None

    def solve(self, given: SystemInputs) -> Alignment:
        points = [given[i].whole for i in self.points]
        for point in points:
            if point_of(point.feature.shape) is None or point_of(point.known_nominal) is None:
                raise AlignmentError(f"{point.name} has no center.", KEPT, "Choose points, or features with a center.")
        weights = [self.u_mm or max(p.u_mm, LEAST_U_MM) for p in points]
        names, nominal = [p.name for p in points], np.array([center_point(p.nominal) for p in points])
        actual, scale = np.array([center_point(p.feature.shape) for p in points]), scale_factor(self.scale)
        found = align_reference_points(
            names, nominal, actual, scale, weights, [p.feature for p in points], u_scale_factor(self.scale)
        )
        return found.doubted(likely_cause(names, nominal, (scale or 1.0) * actual, max(weights)))


KIND = ReferencePointsRecipe
