"""A scan: lines of light over whatever lies there, what is cut away of them, and in which alignment rows take their points."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ...alignment import Alignment
from ...cloud.sorting import Rule
from ...cloud.working import CloudWork, SortingWork
from ...frames import Motion
from ..base import Direction, Internal, Model, SystemRef, Vector
from ..bases.scans import ScanRecipe as BaseRecipe

Fine = Annotated[float, Field(ge=0.2, le=50)]
Near = Annotated[float, Field(gt=0, le=100)]


class Cut(Model):
    """A plane in the world: what lies behind it is cut away. ``name``: in words, what it is."""

    point: Vector
    normal: Direction
    name: Annotated[str, Field(max_length=80)] = ""


class ScanRecipe(BaseRecipe):
    """``cuts``: planes; ``grid_mm``: one point of each cube of that length is worked with; ``within_mm``, ``margin_mm``: a
    row's points lie so near to its face at most, and so far from its edges at least; ``edges_only``: what is flat is left out;
    ``system``: the alignment for that."""

    kind: Literal["scan"] = "scan"
    cuts: Annotated[tuple[Cut, ...], Internal(), Field(max_length=20)] = ()
    grid_mm: Fine = 1.0
    within_mm: Near = 1.0
    margin_mm: Near = 1.0
    edges_only: Annotated[bool, Internal()] = False
    system: Annotated[SystemRef | None, Internal()] = None

    @property
    def what_counts(self) -> Any:
        return self.cuts, self.grid_mm, self.edges_only

    @property
    def whose(self) -> Any:
        return self.within_mm, self.margin_mm

    def work(self, axes: Mapping[int, Motion], stations: Mapping[int, Motion]) -> CloudWork:
        return CloudWork(axes, stations, self.cuts, self.grid_mm, self.edges_only)

    def sorting(self, placed: Alignment, wanted: Mapping[int, int]) -> SortingWork:
        return SortingWork(placed.part_from_world, wanted, Rule(self.within_mm, margin_mm=self.margin_mm))


KIND = ScanRecipe
