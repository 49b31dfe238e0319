"""A section through a scan: how far it lies off the CAD in one plane, or, where there is none, what it looks like."""

from __future__ import annotations

from typing import Annotated, Literal

from ..base import CloudRef, Direction, Internal, Vector
from ..bases.mapped import SectionRecipe, Thick, Times


class ScanSectionRecipe(SectionRecipe):
    kind: Literal["scan_section"] = "scan_section"
    scan: Annotated[CloudRef, Internal()]
    system: Annotated[None, Internal()] = None
    point: Annotated[Vector, Internal()]
    across: Annotated[Direction, Internal()]
    in_world: Annotated[bool, Internal()] = False
    thick_mm: Thick = 1.0
    reach_mm: Thick = 1.0
    times: Times = 50.0


KIND = ScanSectionRecipe
