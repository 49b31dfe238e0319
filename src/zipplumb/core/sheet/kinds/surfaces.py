"""Touches laid on the part's surfaces: all hits of some rows, by nearest point."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment, align_holds
from ...alignment.surfaces import align_surfaces
from ...errors import AlignmentError
from ...frames import Motion
from ..base import FeatureRef, Length, SystemRef
from ..bases.systems import KEPT, ActualFeature, SystemInputs, SystemRecipe

MOST_NAMED = 300  # touches; more are a scan, whose points are not looked at one by one


class SurfacesRecipe(SystemRecipe):
    """From ``start`` (an alignment), or, left out, from the rows' own nominals."""

    kind: Literal["surfaces"] = "surfaces"
    rests_on_surfaces = True
    features: Annotated[tuple[FeatureRef, ...], Field(min_length=1)]
    start: SystemRef | None = None
    u_mm: Length = 0.05
    reject: bool = False

    def also_held(self, feature: int, directions: tuple[Any, ...]) -> SurfacesRecipe:
        return self.model_copy(update={"features": (*self.features, feature)})

    def solve(self, given: SystemInputs) -> Alignment:
        if given.surfaces is None:
            raise AlignmentError("The part has no CAD surfaces.", KEPT, "Bring in its CAD, or hold it by features.")
        touched = [given[i] for i in self.features]
        points = np.vstack([t.contacts for t in touched])
        off = np.repeat([t.tip_mm for t in touched], [len(t.contacts) for t in touched])
        names = _names(touched) if len(points) <= MOST_NAMED else []
        return align_surfaces(
            points, given.surfaces.nearest, self._start(given), self.u_mm, self.reject, len(points) > 6, off, given.row, names
        )

    def _start(self, given: SystemInputs) -> Motion:
        if self.start is not None:
            return given.systems[self.start].part_from_world
        touched = [given[i] for i in self.features]
        return align_holds([t.hold(t.own_directions, 1.0) for t in touched]).part_from_world


def _names(touched: Sequence[ActualFeature]) -> list[str]:
    """The name of every touch."""
    return [t.name if len(t.contacts) == 1 else f"hit {k + 1} of {t.name}" for t in touched for k in range(len(t.contacts))]


KIND = SurfacesRecipe
