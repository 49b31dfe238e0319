"""The base of outlines that close round something: of a scan they take the edges of its light."""

from __future__ import annotations

from typing import Any

from ...cloud.giving import GivenPoints
from ...cloud.outlines import given
from ..clouds import FoundCloud
from .flat import FlatRecipe
from .measured import EnclosedRecipe


class RimRecipe(FlatRecipe, EnclosedRecipe):
    """``seen_at``: the outline as found in a scan, in the world; of one that was planned the nominal tells where it is."""

    seen_at: Any = None

    @property
    def takes_by_cad(self) -> bool:
        return self.seen_at is None and super().takes_by_cad

    @property
    def may_be_scanned(self) -> bool:
        return self.nominal is not None or self.seen_at is not None or super().may_be_scanned

    def nominal_air(self) -> int | None:
        return super().nominal_air() if self.seen_at is None else -1 if self.inside else 1

    def of_scan(self, row: int, cloud: FoundCloud) -> GivenPoints | None:
        if self.cut is not None:
            return super().of_scan(row, cloud)
        outline = self.seen_at
        if outline is None and cloud.part_from_world is not None and self.nominal is not None:
            outline = self.nominal.moved(cloud.part_from_world.inverse())
        return None if outline is None else given(cloud.edges, outline, self.inside)
