"""Proof points: places touched anywhere on the part, to see whether the alignment is right there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...errors import AlignmentError
from ...frames import Array
from ...sections import TipPath
from ..base import Internal, Needed
from ..bases.measured import MeasuredRecipe
from ..bases.tip_path import found_path, off_a_surface
from ..given import PartSurfaces
from ..quantities import Quantity
from ..results import FoundFeature
from ..row_hits import RowHits


class ProofRecipe(MeasuredRecipe):
    """Each hit is a proof point: how far it lies off the nearest surface of the CAD, in the active alignment."""

    kind: Literal["proof"] = "proof"
    takes_more = False
    fits = "point"
    hits_stand_apart = True
    shape_type = TipPath
    sided = False
    of_its_shape = False
    rests_on_surfaces = True
    zoned: ClassVar[bool] = False
    nominal: Annotated[None, Internal()] = None
    hits: Annotated[int, Internal(), Field(ge=1, le=10_000)] = 1

    @property
    def wanted_hits(self) -> int:
        return 0  # as many as one likes

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        return None

    def height_over_nominal(self, points_part: Array, surfaces: PartSurfaces | None = None) -> Array | None:
        return None if surfaces is None else self.surfaces_of(surfaces).touched(points_part, 0.0)[1]

    @classmethod
    def quantities_of(cls, nominal: PartSurfaces | None) -> tuple[Quantity, ...]:
        return off_a_surface(None if nominal is None else nominal.touched, cls.zoned)

    def surfaces_of(self, part: PartSurfaces) -> PartSurfaces:
        """The surfaces that it may touch."""
        return part

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        return self.quantities_of(found.nominal)

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        assert hits is not None
        if hits.kit.surfaces is None:
            raise AlignmentError("The part has no CAD surfaces.", "The hits are kept.", "Bring in its CAD.")
        return replace(found_path(self, hits), nominal=self.surfaces_of(hits.kit.surfaces))

    def contacts_in_part(self, found: FoundFeature, contacts_part: Array) -> Array:
        if found.feature is None or found.nominal is None:
            return contacts_part
        return np.asarray(found.nominal.touched(contacts_part, found.feature.shape.radius)[0])

    def off_nominal(self, found: FoundFeature, contacts_part: Array) -> Array | None:
        return None if found.nominal is None else np.asarray(found.nominal.touched(contacts_part, 0.0)[1])


KIND = ProofRecipe
