"""A scan: lines of light over whatever lies there, what is cut away of them, and in which alignment rows take their points."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from ...alignment import Alignment
from ...cloud.cutting import Flags, Off, inside
from ...cloud.sorting import Rule
from ...cloud.working import CloudWork, SortingWork
from ...errors import InputError
from ...frames import Array, Motion
from ..base import Direction, Internal, Model, SystemRef, Vector
from ..bases.scans import ScanRecipe as BaseRecipe

Fine = Annotated[float, Field(ge=0.2, le=50)]
Near = Annotated[float, Field(gt=0, le=100)]
Name = Annotated[str, Field(max_length=80)]


class Side(Model):
    """A plane in the world, its normal out of the region that it bounds."""

    point: Vector
    normal: Direction


class Region(Model):
    """Of the world, inside of all its ``sides``, is cut away; where it ``keeps``, all but that. ``name``: what goes."""

    kind: Literal["region"] = "region"
    on_cad: ClassVar[bool] = False
    sides: Annotated[tuple[Side, ...], Field(min_length=1, max_length=8)]
    keeps: bool = False
    name: Name = ""

    def leaves(self, points: Array, off: Off | None) -> Flags:
        return inside(points, self.sides) == self.keeps


class OffCad(Model):
    """What lies farther than ``within_mm`` off the part's CAD is cut away, as the part lay when that was asked: ``turn``, a
    rotation vector, and ``shift``, part from world."""

    kind: Literal["off_cad"] = "off_cad"
    on_cad: ClassVar[bool] = True
    within_mm: Near
    turn: Vector
    shift: Vector
    name: Name = ""

    def leaves(self, points: Array, off: Off | None) -> Flags:
        if off is None:
            raise InputError("The part has no CAD.", "All that was read is kept.", "Take back the cut by it.")
        return off(Motion.from_rotvec(self.turn, self.shift).points(points)) <= self.within_mm


Cut = Annotated[Region | OffCad, Field(discriminator="kind")]


class ScanRecipe(BaseRecipe):
    """``asks``: what is to be scanned, as a person is told; ``gives``: when it is finished, rows that are not measured take
    their points from it. ``cuts``: what is cut away; ``grid_mm``: one point of each cube of that length is worked with;
    ``within_mm``, ``margin_mm``: a row's points lie so near to its face at most, and so far from its edges at least;
    ``edges_only``: what is flat is left out; ``system``: the alignment for that."""

    kind: Literal["scan"] = "scan"
    found_here = ("cuts", "edges_only", "system")
    asks: Annotated[str, Field(max_length=120)] = ""
    gives: bool = False
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
        return SortingWork(placed.part_from_world, wanted, Rule(self.within_mm, margin_mm=self.margin_mm), placed.scale)


KIND = ScanRecipe
