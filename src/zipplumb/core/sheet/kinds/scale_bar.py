"""A scale bar: the known distance of two points. It is checked, and where both are seen from several stations it bears on how
these stand (one more observation of the network)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...alignment import Alignment
from ...deriving.drawing import segment
from ...errors import DeriveError
from ...features import center_point, point_of
from ...uncertainty import Source, Uncertainty
from ...units import Unit
from ..base import Asked, FeatureRef, Internal, Length
from ..judged import JudgedRecipe, Judgement
from ..judging import Number, decided, in_system, told_in
from ..quantities import Quantity
from ..results import Characteristic, FoundFeature

KEPT = "What was measured is kept."


class ScaleBarRecipe(JudgedRecipe):
    """``of``: its two ends; ``length_mm``: as certified, at the temperature at which it is measured; ``u_mm``: its standard
    uncertainty; ``within_mm``: by how much what is measured may differ."""

    role = "tolerance"
    in_network = True
    kind: Literal["scale_bar"] = "scale_bar"
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=2, max_length=2)]
    length_mm: Length
    u_mm: Annotated[float, Field(gt=0, le=10)] = 0.005
    within_mm: Length | None = None
    asked: Annotated[tuple[Asked, ...], Internal(), Field(max_length=0)] = ()

    @model_validator(mode="after")
    def _two(self):
        if self.of[0] == self.of[1]:
            raise ValueError("a bar has two ends")
        return self

    @property
    def known_length(self) -> tuple[int, int, float, float]:
        return (*self.of, self.length_mm, self.u_mm)  # type: ignore[return-value]

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return (("length", "mm"),)

    def planned(self) -> tuple[Characteristic, ...]:
        lower, upper = self._limits
        return (Characteristic("length", "mm", self.length_mm, lower=lower, upper=upper),)

    @property
    def _limits(self) -> tuple[float | None, float | None]:
        return (None, None) if self.within_mm is None else (-self.within_mm, self.within_mm)

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        ends = [found[i] for i in self.of]
        for end in ends:
            if end.feature is None or point_of(end.shape) is None:
                raise DeriveError(f"{end.name} has no center.", KEPT, "Choose the points at the ends of the bar.")
        features = [in_system(end.feature, None) for end in ends if end.feature is not None]
        (told,) = told_in([Number(lambda a, b: float(np.linalg.norm(center_point(a) - center_point(b))))], features, None)
        # stations in doubt do not make it less proven: it is one of those by which they are judged
        own = Uncertainty(1, {Source("bar", row): np.array([[self.u_mm]])})
        lower, upper = self._limits
        judged = decided(
            Quantity("length", nominal=self.length_mm), Asked(key="length", lower=lower, upper=upper),
            told.but(lambda sure: {"uncertainty": sure.uncertainty + own, "unproven": ""}), "done",
        )  # fmt: skip
        places = [center_point(end.shape if system is None else system.shape(end.shape)) for end in ends]
        return Judgement((judged,), segment(*places))


KIND = ScaleBarRecipe
