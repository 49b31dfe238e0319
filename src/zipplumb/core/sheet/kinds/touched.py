"""Something that was just touched: what it is is recognised from its hits, and a person accepts it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...errors import FitError
from ...features import Feature
from ...fitting import fit, recognise
from ...fitting.recognise import U_HIT_MM
from ...frames import Array
from ..base import FeatureRef, Internal, Needed
from ..bases.measured import HitCount, MeasuredRecipe, data_for_fit
from ..quantities import Quantity
from ..results import FoundFeature, Proposal
from ..row_hits import RowHits

MOST_LOOKED_AT = 120  # hits, evenly of all, by which a shape is recognised
MOST_PROPOSED = 4
LEAST_SURE = 1e-6
WITHIN_U = 10.0  # hits may be worse than stated: what fits within so many uncertainties of one may be chosen
Code = Annotated[str, Field(pattern=r"^((fit|row|face):[a-z0-9_]{1,20}|axis:[+-][XYZ])$")]


class TouchedRecipe(MeasuredRecipe):
    """``flat``: an outline in a plane, of its own hits or of another row; ``chosen``: what a person chose of what it may
    be, a kind of fit as "fit:circle"; ``for_axis``: it is a plane, and stands for an axis of the part."""

    kind: Literal["touched"] = "touched"
    takes_more = False
    proposes = True
    fits = "something"
    shape_type = type(None)
    found_here = ("chosen",)
    flat: bool = False
    for_axis: Annotated[bool, Internal()] = False
    plane: FeatureRef | None = None
    chosen: Annotated[Code | None, Internal()] = None
    hits: HitCount = 3

    @property
    def wanted_hits(self) -> int:
        return 0  # it is enough when a person says so

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        return None

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        as_what = self.as_kind(found.proposals[0].fit_kind) if found.proposals else None
        return as_what.quantities(found) if as_what else ()

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        assert hits is not None
        plane = parents[Needed("feature", self.plane)].feature if self.flat and self.plane is not None else None
        proposals = self._proposals(hits, plane)
        if not proposals:
            raise FitError(
                "Nothing that these hits may be was found.", "The hits are kept.", "Take more, or take back what is off."
            )
        recipe = self.as_kind(proposals[0].fit_kind)
        assert recipe is not None
        return replace(recipe.found(hits, parents), proposals=proposals, nominal=None)

    def _proposals(self, hits: RowHits, plane: Feature | None) -> tuple[Proposal, ...]:
        """Candidate shapes, the chosen one first."""
        dimension: Literal["2d", "3d"] = "2d" if self.flat else "3d"
        u_hit_mm = hits.u_hit_mm or U_HIT_MM
        found = recognise(_thinned(hits.centers), dimension, u_hit_mm, plane.shape if plane else None)
        if self.for_axis:
            return (Proposal("plane", 1.0, fit("plane", hits.centers).rms),)
        there = [
            Proposal(c.kind, c.sure, c.error_mm)
            for c in found.candidates
            if self.as_kind(c.kind) is not None
            and (c.sure > LEAST_SURE or self._chose(c.kind) or c.leaves_mm < WITHIN_U * u_hit_mm)
        ][:MOST_PROPOSED]
        return tuple(sorted(there, key=lambda p: not self._chose(p.fit_kind)))

    def _chose(self, fit_kind: str) -> bool:
        return self.chosen == f"fit:{fit_kind}"

    def as_kind(self, fit_kind: str) -> MeasuredRecipe | None:
        """The row that such a fit makes of it; None where that takes more than the hits tell."""
        raw = data_for_fit(fit_kind)
        return None if raw is None else self.become(raw)


def _thinned(points: Array) -> Array:
    if len(points) <= MOST_LOOKED_AT:
        return points
    return points[np.linspace(0, len(points) - 1, MOST_LOOKED_AT).astype(int)]


KIND = TouchedRecipe
