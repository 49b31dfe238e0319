"""A point: where the center of the tip, or of the reflector in its nest, was. No side, no radius."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...features import Feature
from ...fitting import FitResult
from ...frames import Array
from ...probing.balls import unlike_words
from ...shape_codec import StoredPoint
from ...shapes import Point
from ..bases.from_hits import feature_of_hits
from ..bases.measured import HitCount, MeasuredRecipe
from ..quantities import Quantity, coordinates, distance_off
from ..results import FoundFeature
from ..row_hits import RowHits


class PointRecipe(MeasuredRecipe):
    """``known_u_mm``: its nominal place is known so well (a standard uncertainty), and ties stations that see it."""

    kind: Literal["point"] = "point"
    fits = "point"
    shape_type = Point
    sided = False
    pulls_off = False
    ties_stations = True
    in_network = True
    belongs_at_nominal = False  # where it is now is what is asked, of a detail that is still to be moved
    nominal: StoredPoint | None = None
    hits: HitCount = 1
    known_u_mm: Annotated[float | None, Field(gt=0, le=10)] = None

    @model_validator(mode="after")
    def _known_somewhere(self):
        if self.known_u_mm is not None and self.nominal is None:
            raise ValueError("a known place has a nominal")
        return self

    @property
    def known_place(self) -> tuple[Array, float] | None:
        if self.nominal is None or self.known_u_mm is None:
            return None
        return np.asarray(self.nominal.position), self.known_u_mm

    @property
    def targets(self) -> Array | None:
        return None if self.nominal is None else np.asarray(self.nominal.position)[None]

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        return (*distance_off(nominal), *coordinates(nominal))

    def unsided(self, base: FoundFeature, hits: RowHits, result: FitResult, plane: Feature | None) -> FoundFeature:
        feature: Feature = feature_of_hits(self.name, hits, result, lambda _: result.shape, None)
        doubts = (*base.doubts, *unlike_words(2 * hits.radii_mm))
        return replace(base, state="done" if hits.finished else "taking", feature=feature, contacts=hits.centers, doubts=doubts)


KIND = PointRecipe
