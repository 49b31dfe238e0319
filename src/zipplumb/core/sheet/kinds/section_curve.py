"""A section curve: a tip follows a surface along the curve in which a plane cuts it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...frames import Array
from ...sections import Section, TipPath
from ...shape_codec import StoredSection
from ..base import Internal, Needed
from ..bases.measured import MeasuredRecipe
from ..bases.tip_path import found_path, off_a_surface
from ..quantities import Quantity
from ..results import FoundFeature
from ..row_hits import RowHits


class SectionCurveRecipe(MeasuredRecipe):
    """``nominal``: the curve on the CAD; ``every_mm``: about how far its targets are from one another.

    What is judged is each hit's distance from the surface, along the surface's normal: the most that it lies outside, the
    most inside, and the zone about the curve that holds all (ISO 1101, profile of any line).
    """

    kind: Literal["section_curve"] = "section_curve"
    takes_more = False
    fits = "point"
    hits_stand_apart = True
    shape_type = TipPath
    sided = False
    of_its_shape = False
    typed = False
    nominal: Annotated[StoredSection, Internal()]
    every_mm: Annotated[float, Field(gt=0.01, le=10_000)] = 10.0
    hits: Annotated[int, Internal(), Field(ge=1, le=100_000)] = 1

    @property
    def targets(self) -> Array:
        return self.nominal.targets(self.every_mm)

    @property
    def wanted_hits(self) -> int:
        return len(self.targets)

    @classmethod
    def quantities_of(cls, nominal: Section) -> tuple[Quantity, ...]:
        return off_a_surface(nominal.touched)

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        return None  # what a curve should be is told by CAD alone

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        """Each hit is as uncertain as one hit is: what is judged is the one that lies off the most."""
        assert hits is not None
        return found_path(self, hits)

    def contacts_in_part(self, found: FoundFeature, contacts_part: Array) -> Array:
        if found.feature is None:
            return contacts_part
        return np.asarray(self.nominal.touched(contacts_part, found.feature.shape.radius)[0])

    def off_nominal(self, found: FoundFeature, contacts_part: Array) -> Array:
        return np.asarray(self.nominal.distance(contacts_part))


KIND = SectionCurveRecipe
