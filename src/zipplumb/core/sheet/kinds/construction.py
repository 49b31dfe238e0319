"""A feature made of others: what it is made of, and by which entry of the registry of derivations."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ...deriving import construct
from ...errors import DeriveError, PlumbError
from ...features import Feature
from ..base import Needed
from ..bases.derived import DerivedRecipe
from ..bases.measured import FeatureRecipe, measured_as
from ..quantities import Quantity, coordinates
from ..results import FoundFeature
from ..row_hits import RowHits


class ConstructionRecipe(DerivedRecipe, FeatureRecipe):
    """``make``: the registry's key."""

    kind: Literal["construction"] = "construction"
    make: Annotated[str, Field(pattern=r"^[a-z_]{1,60}$")]

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        of = [parents[Needed("feature", i)] for i in self.of]
        made = construct(self.make, [f.feature for f in of if f.feature is not None], self.given)
        if made.feature is None:
            raise DeriveError(made.why_not or "That is a number, not a feature.", "", "")
        feature = Feature(self.name, made.feature.shape, made.feature.local, made.feature.uncertainty, made.feature.extent)
        return FoundFeature("done", self.name, self.letter, self._nominal(of), feature=feature, draw=made.draw)

    def _nominal(self, of: list[FoundFeature]) -> Any:
        """The construction made of the nominals; None unless all parents have one."""
        if any(f.nominal is None for f in of):
            return None
        try:
            made = construct(self.make, [Feature(f.name, f.nominal) for f in of], self.given)
        except PlumbError:
            return None
        return made.feature.shape if made.feature else None

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        return quantities_of_made(found)


def quantities_of_made(found: FoundFeature) -> tuple[Quantity, ...]:
    """Those of the kind that measures such a shape, but for the form, which a made shape has not."""
    if found.shape is None:
        return ()
    kind = measured_as(found.shape)
    known = kind.quantities_of(found.nominal) if kind else coordinates(found.nominal)
    return tuple(q for q in known if q.of is not None)


KIND = ConstructionRecipe
