"""How far a scan lies off the part's CAD, everywhere that was seen."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...alignment import Alignment
from ...cloud.deviating import DeviationWork
from ...cloud.working import CloudWork
from ...units import Unit
from ..base import CloudRef
from ..bases.mapped import MapRecipe
from ..maps import KEYS

Reach = Annotated[float, Field(gt=0, le=100)]
Margin = Annotated[float, Field(ge=0, le=100)]


class DeviationsRecipe(MapRecipe):
    """``scan``: whose points; those farther off than ``reach_mm``, or nearer than ``margin_mm`` to an edge, are not of the
    surface."""

    kind: Literal["deviations"] = "deviations"
    typed = False
    scan: CloudRef
    reach_mm: Reach = 1.0
    margin_mm: Margin = 0.5

    @property
    def what_counts(self) -> Any:
        return self.reach_mm, self.margin_mm

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return tuple((key, "mm") for key in KEYS)

    def work(self, cloud: CloudWork, placed: Alignment) -> DeviationWork:
        return DeviationWork(cloud, placed.part_from_world, self.reach_mm, self.margin_mm, placed.scale)


KIND = DeviationsRecipe
