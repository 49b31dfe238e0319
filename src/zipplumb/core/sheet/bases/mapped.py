"""The bases of maps, how far a scan lies off the part's CAD everywhere, and of pins on them."""

from __future__ import annotations

from typing import Any

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.working import CloudWork
from ..base import RowRecipe, Vector


class MapRecipe(RowRecipe):
    """A row that gives a map of a ``scan`` in the active system."""

    role = "map"
    rests_on_surfaces = True
    scan: int

    @property
    def what_counts(self) -> Any:
        """All of the recipe that the map itself rests on; limits are applied to it afterwards."""
        raise NotImplementedError

    def work(self, cloud: CloudWork, placed: Alignment) -> DeviationWork:
        """What is to be worked out."""
        raise NotImplementedError


class OnMapRecipe(RowRecipe):
    """A row that tells what a ``map`` found ``at`` a place of the part's surface."""

    role = "pin"
    typed = False
    map: int
    at: Vector

    @property
    def on_map(self) -> int | None:
        return self.map
