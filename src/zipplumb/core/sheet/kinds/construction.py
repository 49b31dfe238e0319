"""A feature made of others: what it is made of, and by which entry of the registry of derivations."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

from pydantic import Field

from ...deriving import Possible, construct
from ...errors import DeriveError, PlumbError
from ...features import Feature
from ..base import Needed
from ..bases.derived import DerivedRecipe
from ..bases.measured import FeatureRecipe, measured_as
from ..quantities import Quantity, coordinates
from ..results import FoundFeature, Made
from ..row_hits import RowHits


class ConstructionRecipe(DerivedRecipe, FeatureRecipe):
    """``make``: the registry's key."""

    kind: Literal["construction"] = "construction"
    make: Annotated[str, Field(pattern=r"^[a-z_]{1,60}$")]

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        of = tuple(parents[Needed("feature", i)] for i in self.of)
        made = construct(self.make, [f.feature for f in of if f.feature is not None], self.given)
        feature = replace(_feature_of(made), name=self.name)
        return FoundFeature(
            "done", self.name, self.letter, self._nominal(of), feature=feature, draw=made.draw, made=Made(of, self._again)
        )

    def _again(self, features: Sequence[Feature]) -> Feature:
        return _feature_of(construct(self.make, features, self.given))

    def _nominal(self, of: Sequence[FoundFeature]) -> Any:
        """The construction made of the nominals; None unless all parents have one."""
        if any(f.nominal is None for f in of):
            return None
        try:
            return self._again([Feature(f.name, f.nominal) for f in of]).shape
        except PlumbError:
            return None

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        return quantities_of_made(found)


def _feature_of(made: Possible) -> Feature:
    """Raises DeriveError where it could not be made."""
    if made.feature is None:
        raise DeriveError(made.why_not or "That is a number, not a feature.", "", "")
    return made.feature


def quantities_of_made(found: FoundFeature) -> tuple[Quantity, ...]:
    """The quantities of the kind that measures such a shape, without form, which a made shape does not have."""
    if found.shape is None:
        return ()
    kind = measured_as(found.shape)
    known = kind.quantities_of(found.nominal) if kind else coordinates(found.nominal)
    return tuple(q for q in known if q.of is not None)


KIND = ConstructionRecipe
