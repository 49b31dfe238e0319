"""How far a scan lies off the part's CAD, everywhere that was seen."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.working import CloudWork
from ..base import CloudRef, SystemRef
from ..bases.mapped import ScanMapRecipe

Reach = Annotated[float, Field(gt=0, le=100)]
Margin = Annotated[float, Field(ge=0, le=100)]


class DeviationsRecipe(ScanMapRecipe):
    """``scan``: whose points; those farther off than ``reach_mm``, or nearer than ``margin_mm`` to an edge, are not of the
    surface."""

    kind: Literal["deviations"] = "deviations"
    scan: CloudRef
    system: SystemRef | None = None
    reach_mm: Reach = 1.0
    margin_mm: Margin = 0.5

    @property
    def what_counts(self) -> Any:
        return self.reach_mm, self.margin_mm

    def work(self, cloud: CloudWork, placed: Alignment) -> DeviationWork:
        return DeviationWork(cloud, placed.part_from_world, self.reach_mm, self.margin_mm, placed.scale)


KIND = DeviationsRecipe
