"""The bases of maps, how far what was scanned or touched lies off the part's CAD, and of pins on them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.working import CloudWork
from ...units import Unit
from ..base import Direction, RowRecipe, Vector

Thick = Annotated[float, Field(gt=0, le=100)]
Times = Annotated[float, Field(ge=1, le=10_000)]
KEYS = ("largest", "smallest", "profile", "mean", "spread", "low", "high")


class MapRecipe(RowRecipe):
    """A row that gives a map in the active system."""

    role = "map"
    rests_on_surfaces = True
    typed = False

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return tuple((key, "mm") for key in KEYS)


class ScanMapRecipe(MapRecipe):
    """A map of a ``scan``, in the alignment of ``system``, or in the one that is in use."""

    scan: int
    system: int | None = None

    @property
    def what_counts(self) -> Any:
        """All of the recipe that the map itself rests on; limits are applied to it afterwards."""
        raise NotImplementedError

    def work(self, cloud: CloudWork, placed: Alignment) -> DeviationWork:
        """What is to be worked out."""
        raise NotImplementedError


class SectionRecipe(ScanMapRecipe):
    """``point``, ``across``: of the plane, in the part, or ``in_world``; points within ``thick_mm`` to either side tell where
    the surface cuts it; what lies farther off the CAD than ``reach_mm`` is not of it; ``times``: as whiskers are drawn longer.
    """

    nodes = "section"
    point: Vector
    across: Direction
    in_world: bool
    thick_mm: float
    reach_mm: float
    times: float


class ComparedRecipe(MapRecipe):
    """How far the ``second`` map differs from the ``first``."""

    nodes = "comparison"
    first: int
    second: int


class OnMapRecipe(RowRecipe):
    """A row that tells what a ``map`` found ``at`` a place of the part's surface."""

    role = "pin"
    typed = False
    map: int
    at: Vector

    @property
    def on_map(self) -> int | None:
        return self.map
