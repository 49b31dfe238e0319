"""Z upright: by a station's own level, or square to a measured plane; zero at ``origin``, if given."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import model_validator

from ...alignment import Alignment
from ...alignment.steps import AxisTurn, Origin, align_steps
from ...errors import AlignmentError
from ...features import Feature, plane_of
from ...frames import Motion
from ...shapes import Line
from ...uncertainty import Source, Uncertainty
from ..base import FeatureRef, StationRef
from ..bases.systems import KEPT, SystemInputs, SystemRecipe


class LevelRecipe(SystemRecipe):
    kind: Literal["level"] = "level"
    station: StationRef | None = None
    plane: FeatureRef | None = None
    origin: FeatureRef | None = None

    @model_validator(mode="after")
    def _one(self):
        if (self.station is None) == (self.plane is None):
            raise ValueError("give a station with a level, or a plane")
        return self

    def solve(self, given: SystemInputs) -> Alignment:
        steps: list[AxisTurn | Origin] = [AxisTurn((self._upright(given),), "+Z")]
        if self.origin is not None:
            origin = given[self.origin].whole.feature
            steps.append(Origin(origin, "Z" if plane_of(origin.shape) is not None else "XYZ"))
        return align_steps(steps)

    def _upright(self, given: SystemInputs) -> Feature:
        if self.plane is not None:
            upright = given[self.plane].feature
            if plane_of(upright.shape) is None:
                raise AlignmentError(f"{upright.name} is no plane.", KEPT, "Choose a plane, or the instrument's level.")
            return upright
        station = given.stations.get(self.station or 0)
        if station is None or station.up is None:
            raise AlignmentError("That station has no level.", KEPT, "Level to a plane, or choose another station.")
        spread = Uncertainty.of_covariance(Source("level", station.id), np.diag([0.0, 0, 0, 1, 1, 1]) * station.u_level_rad**2)
        up = station.world_from_station.vectors(station.up)
        return Feature("the instrument's level", Line(np.zeros(3), up), Motion.identity(), spread)


KIND = LevelRecipe
