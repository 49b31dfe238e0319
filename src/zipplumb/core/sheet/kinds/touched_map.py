"""How far what was touched lies off the part's CAD, hit by hit."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ..base import FeatureRef
from ..bases.mapped import MapRecipe


class TouchedMapRecipe(MapRecipe):
    """``of``: rows planned on faces of the CAD, whose hits it tells of."""

    nodes = "touched map"
    kind: Literal["touched_map"] = "touched_map"
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=60)]


KIND = TouchedMapRecipe
