"""A place on a surface: one hit, or three in a small triangle that tell the lean."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ...errors import PlumbError
from ...features import Feature
from ...fitting import FitResult
from ...frames import Array
from ...probing import surface_point
from ...shape_codec import StoredPlane
from ...shapes import Point
from ...uncertainty import Source
from ..bases.from_hits import feature_of_hits
from ..bases.measured import MeasuredRecipe
from ..quantities import Quantity
from ..results import FoundFeature, State, TipLeft
from ..row_hits import RowHits


class SurfacePointRecipe(MeasuredRecipe):
    """``nominal``: the surface's plane there, its normal out of the material."""

    kind: Literal["surface_point"] = "surface_point"
    takes_more = False
    fits = "point"
    hits_stand_apart = True
    shape_type = Point
    sided = False
    of_its_shape = False
    on_surface = True
    nominal: StoredPlane
    hits: Literal[1, 3] = 1

    @property
    def targets(self) -> Array:
        return np.asarray(self.nominal.point[None])

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        def off(shape: Point) -> float:
            return float(nominal.distance(shape.position[None])[0])

        return (Quantity("off", "mm", off, 0.0, in_part=True, tip_share=1.0),)

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        return None  # without a nominal there is no direction to take the tip off

    def toward(self, hits: RowHits) -> Array | None:
        return hits.came_from

    def unsided(self, base: FoundFeature, hits: RowHits, result: FitResult, plane: Feature | None) -> FoundFeature:
        """Three hits tell the lean, and the tip comes off; of one the tip's center is kept until the part is aligned."""
        cal = hits.calibration
        done: State = "done" if hits.finished else "taking"
        if self.hits == 1 or len(hits.keys) < 3 or base.facing is None:
            feature = feature_of_hits(self.name, hits, result, lambda _: result.shape, None)
            tip = TipLeft(cal.radius_mm, Source("tip", cal.id), cal.u_radius_mm)
            return replace(base, state=done, feature=feature, contacts=hits.centers, tip=tip)
        if not hits.one_radius:
            words = "It was touched with tips of different sizes. The hits are kept. Take its three hits with one tip."
            return replace(base, state="failed" if hits.finished else "taking", message=words)
        try:
            found = surface_point(hits.centers[:3], cal.radius_mm, base.facing, hits.u_hit_mm)
        except PlumbError as error:
            return replace(base, state="failed" if hits.finished else "taking", message=str(error))
        middle = found.position + cal.radius_mm * found.normal
        # the three stand apart on purpose: how far they are from their middle says nothing of how well each was taken
        feature = feature_of_hits(
            self.name, hits, result, lambda radius: Point(middle - radius * found.normal), None, seen_mm=np.nan
        )
        return replace(
            base, state=done, feature=feature, contacts=hits.centers - cal.radius_mm * found.normal, facing=found.normal,
            warnings=(*base.warnings, *found.warnings),
        )  # fmt: skip

    def contacts_in_part(self, found: FoundFeature, contacts_part: Array) -> Array:
        return contacts_part - np.asarray(found.tip.radius_mm * self.nominal.normal) if found.tip else contacts_part


KIND = SurfacePointRecipe
