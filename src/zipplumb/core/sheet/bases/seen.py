"""The base of surfaces that may be seen in a scan where a person pointed: they take its points that lie on them there."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np

from ...cloud.giving import GivenPoints
from ...cloud.growing import given_on
from ..base import Internal, Vector
from ..clouds import FoundCloud
from .measured import MeasuredRecipe


class SeenRecipe(MeasuredRecipe):
    """``seen_at``: the surface as found in a scan, in the world; ``pointed_at``: the place there that was pointed at."""

    found_here = ("seen_at", "pointed_at")
    seen_at: Any = None
    pointed_at: Annotated[Vector | None, Internal()] = None

    @property
    def takes_by_cad(self) -> bool:
        return self.seen_at is None

    @property
    def may_be_scanned(self) -> bool:
        return super().may_be_scanned or self.seen_at is not None

    def of_scan(self, row: int, cloud: FoundCloud) -> GivenPoints | None:
        if self.seen_at is None or self.pointed_at is None:
            return super().of_scan(row, cloud)
        return given_on(cloud.points, self.seen_at, np.array(self.pointed_at))
