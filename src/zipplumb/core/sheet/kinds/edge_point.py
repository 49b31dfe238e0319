"""A place on an edge: where the flank that the tip touched meets a surface. On thin sheet too."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ...errors import FitError, PlumbError
from ...features import Feature
from ...fitting import FitResult
from ...frames import Array
from ...probing import EdgePoint, edge_point
from ...shape_codec import StoredLine
from ...shapes import Line, Point
from ..bases.flat import FlatRecipe
from ..bases.from_hits import feature_of_hits
from ..bases.measured import HitCount
from ..quantities import Quantity, coordinates
from ..results import FoundFeature
from ..row_hits import RowHits


class EdgePointRecipe(FlatRecipe):
    """``nominal``: a place on the edge, and where the edge faces there, out of the material along the surface."""

    kind: Literal["edge_point"] = "edge_point"
    fits = "point"
    hits_stand_apart = True
    belongs_at_nominal = False  # its flank is touched at any height
    shape_type = Point
    sided = False
    of_its_shape = False
    takes_own_plane = False
    nominal: StoredLine | None = None
    hits: HitCount = 1

    @property
    def targets(self) -> Array | None:
        return None if self.nominal is None else np.asarray(self.nominal.point)[None]

    @classmethod
    def quantities_of(cls, nominal: Line | None) -> tuple[Quantity, ...]:
        if nominal is None:
            return coordinates(None)
        off = Quantity("off", "mm", lambda s: float((s.position - nominal.point) @ nominal.direction), 0.0, in_part=True)
        return (off, *coordinates(Point(nominal.point)))

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        return None

    def held_by(self, plane: Feature | None) -> dict[str, Any]:
        return {}

    def toward(self, hits: RowHits) -> Array | None:
        return hits.came_from

    def unsided(self, base: FoundFeature, hits: RowHits, result: FitResult, plane: Feature | None) -> FoundFeature:
        assert plane is not None
        try:
            if base.facing is None:
                raise FitError(
                    "Nothing tells where the edge faces.", "The hit is kept.", "Pull off away from the edge, and finish."
                )
            found = self._edge(result, plane, base.facing, hits.calibration.radius_mm)
        except PlumbError as error:
            return replace(base, state="failed" if hits.finished else "taking", message=str(error))
        outward = found.outward
        feature = feature_of_hits(
            self.name, hits, result, lambda radius: Point(self._edge(result, plane, outward, radius).position), plane,
            seen_mm=float(np.std(hits.centers @ outward, ddof=1)) if len(hits.keys) > 1 else np.nan,
        )  # fmt: skip
        return replace(
            base, state="done" if hits.finished else "taking", feature=feature, facing=outward,
            contacts=np.tile(found.position, (len(hits.keys), 1)), warnings=(*base.warnings, *found.warnings),
        )  # fmt: skip

    @staticmethod
    def _edge(result: FitResult, plane: Feature, outward: Array, tip_radius_mm: float) -> EdgePoint:
        return edge_point(result.shape.position, plane.shape, outward, tip_radius_mm)


KIND = EdgePointRecipe
