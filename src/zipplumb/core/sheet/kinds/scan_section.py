"""A section through a scan: how far it lies off the CAD in one plane, or, where there is none, what it looks like."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ..base import CloudRef, Direction, Internal, Vector
from ..bases.mapped import ScanMapRecipe

Thick = Annotated[float, Field(gt=0, le=100)]
Times = Annotated[float, Field(ge=1, le=10_000)]


class ScanSectionRecipe(ScanMapRecipe):
    """``point``, ``across``: of the plane, in the part, or ``in_world``; points within ``thick_mm`` to either side tell where
    the surface cuts it; what lies farther off the CAD than ``reach_mm`` is not of it; ``times``: as whiskers are drawn longer.
    """

    nodes = "section"
    kind: Literal["scan_section"] = "scan_section"
    scan: Annotated[CloudRef, Internal()]
    point: Annotated[Vector, Internal()]
    across: Annotated[Direction, Internal()]
    in_world: Annotated[bool, Internal()] = False
    thick_mm: Thick = 1.0
    reach_mm: Thick = 1.0
    times: Times = 50.0


KIND = ScanSectionRecipe
