"""A place of a map: how far the scan lies off the part's CAD there."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from ...units import Unit
from ..base import Internal, MapRef, Vector
from ..bases.mapped import OnMapRecipe
from ..maps.found import PINNED


class PinRecipe(OnMapRecipe):
    """``at``: where, on the part's surface; without limits of its own those of the map hold."""

    kind: Literal["pin"] = "pin"
    map: Annotated[MapRef, Internal()]
    at: Annotated[Vector, Internal()]

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return ((PINNED, "mm"),)


KIND = PinRecipe
