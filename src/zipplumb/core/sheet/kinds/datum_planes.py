"""Three datum planes: primary, secondary, tertiary (ISO 5459)."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice, permutations
from typing import Literal

from ...alignment import Alignment, align_datum_planes
from ...errors import AlignmentError
from ...features import plane_of
from ..base import FeatureRef
from ..bases.systems import KEPT, SystemInputs, SystemRecipe


class DatumPlanesRecipe(SystemRecipe):
    kind: Literal["datum_planes"] = "datum_planes"
    primary: FeatureRef
    secondary: FeatureRef
    tertiary: FeatureRef

    @property
    def other_orders(self) -> Iterator[DatumPlanesRecipe]:
        names = ("primary", "secondary", "tertiary")
        for order in islice(permutations(getattr(self, name) for name in names), 1, None):
            yield self.model_copy(update=dict(zip(names, order, strict=True)))

    def solve(self, given: SystemInputs) -> Alignment:
        planes = [given[i] for i in (self.primary, self.secondary, self.tertiary)]
        for plane in planes:
            if plane_of(plane.known_nominal) is None or plane_of(plane.feature.shape) is None:
                raise AlignmentError(f"{plane.name} is no plane with a nominal.", KEPT, "Choose three such planes.")
        return align_datum_planes(
            [p.nominal for p in planes],
            [p.feature.shape for p in planes],
            [p.contacts for p in planes],
            [p.letter for p in planes],
            [p.feature for p in planes],
        )


KIND = DatumPlanesRecipe
