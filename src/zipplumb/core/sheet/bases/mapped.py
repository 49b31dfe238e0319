"""The bases of maps, how far what was scanned or touched lies off the part's CAD, and of pins on them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import AfterValidator, Field, model_validator

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.working import CloudWork
from ...units import Unit
from ..base import Direction, Internal, Model, RowRecipe, Vector

Thick = Annotated[float, Field(gt=0, le=100)]
Times = Annotated[float, Field(ge=1, le=10_000)]
KEYS = ("largest", "smallest", "profile", "mean", "spread", "low", "high", "worst")
WITHIN = ("largest", "smallest", "profile")  # whose limits are limits of every place
MOST_FACES = 5_000


class FaceLimits(Model):
    """Limits of the places of one face of the CAD, mm: both or one."""

    face: Annotated[int, Field(ge=0, lt=2**31)]
    lower: float | None = None
    upper: float | None = None

    @model_validator(mode="after")
    def _some(self):
        if self.lower is None and self.upper is None:
            raise ValueError("a face without limits needs no entry")
        if self.lower is not None and self.upper is not None and self.upper <= self.lower:
            raise ValueError("the upper limit lies under the lower one")
        return self


def _once(limits: Sequence[FaceLimits]) -> Sequence[FaceLimits]:
    if len({each.face for each in limits}) < len(limits):
        raise ValueError("a face has limits twice")
    return limits


OfFaces = Annotated[tuple[FaceLimits, ...], Field(max_length=MOST_FACES), AfterValidator(_once), Internal()]


class MapRecipe(RowRecipe):
    """A row that gives a map in the active system. ``by_face``: what is asked of the places of a face, instead of the rest."""

    role = "map"
    rests_on_surfaces = True
    typed = False
    by_face: OfFaces = ()

    @model_validator(mode="after")
    def _worst_by_its_place(self):
        if any(each.key == "worst" and (each.lower, each.upper) != (None, None) for each in self.asked):
            raise ValueError("the worst place is judged by the limits of all places, or of its face: it has none of its own")
        return self

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

    @property
    def of_one_piece(self) -> bool:
        return self.in_world


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
