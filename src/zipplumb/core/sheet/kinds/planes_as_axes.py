"""Alignment without CAD: each measured plane is normal to an axis of the part, chosen at the instrument."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ...alignment import Alignment
from ...alignment.steps import Axis, align_without_cad
from ...errors import AlignmentError
from ...features import plane_of
from ..base import FeatureRef, Model
from ..bases.systems import KEPT, SystemInputs, SystemRecipe


class PlaneAsAxis(Model):
    feature: FeatureRef
    axis: Axis


class PlanesAsAxesRecipe(SystemRecipe):
    kind: Literal["planes_as_axes"] = "planes_as_axes"
    planes: Annotated[tuple[PlaneAsAxis, ...], Field(min_length=1, max_length=3)]

    @property
    def axes_left(self) -> str:
        return "".join(letter for letter in "XYZ" if letter not in {p.axis[1] for p in self.planes})

    def grown(self, plane: int, axis: Axis) -> PlanesAsAxesRecipe:
        return self.model_copy(update={"planes": (*self.planes, PlaneAsAxis(feature=plane, axis=axis))})

    def solve(self, given: SystemInputs) -> Alignment:
        for plane in self.planes:
            if plane_of(given[plane.feature].feature.shape) is None:
                raise AlignmentError(f"{given[plane.feature].name} is no plane.", KEPT, "Choose planes.")
        return align_without_cad([(given[p.feature].feature, p.axis) for p in self.planes])


KIND = PlanesAsAxesRecipe
