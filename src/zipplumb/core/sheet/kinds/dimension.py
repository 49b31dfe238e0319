"""A distance or an angle of features: which, by the registry of derivations, and what it should be."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ...alignment import Alignment
from ...deriving import Derivation, Drawing, derivation_of, unit_of
from ...errors import DeriveError, PlumbError
from ...features import Feature
from ...units import Unit
from ..base import Asked
from ..bases.derived import DerivedRecipe
from ..beside import beside
from ..judged import JudgedRecipe, Judgement, NeedsSystem
from ..judging import Number, decided, told_in
from ..quantities import Quantity
from ..results import FoundFeature

VALUE = "value"
PAIR = 2  # an angle is of two


class DimensionRecipe(JudgedRecipe, DerivedRecipe):
    """``measure``: the registry's key. The nominal is typed, or else follows from the parents' nominals."""

    role = "dimension"
    kind: Literal["dimension"] = "dimension"
    measure: Annotated[str, Field(pattern=r"^[a-z_]{1,60}$")]
    nominal_mm: Annotated[float, Field(gt=-1e6, lt=1e6)] | None = None
    nominal_rad: Annotated[float, Field(gt=-7, lt=7)] | None = None

    @model_validator(mode="after")
    def _one_nominal(self):
        if self.nominal_mm is not None and self.nominal_rad is not None:
            raise ValueError("a dimension is a length or an angle, not both")
        return self

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return ((VALUE, "rad" if self.nominal_rad is not None else unit_of(self.measure)),)

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        both = [beside(found[i], system) for i in self.of]
        features, nominals = [each.actual for each in both], [each.nominal for each in both]
        derivation = derivation_of(self.measure, features, self.given)
        if not derivation.unit:
            raise DeriveError("That is a feature, not a number.", "The features are kept.", "Choose a dimension.")
        if derivation.in_axes and system is None:
            raise NeedsSystem("A distance or an angle along an axis needs the part aligned.")
        nominal, wraps = self._nominal(nominals, derivation.unit), derivation.unit == "rad"
        if nominal is not None and system is None and len(features) <= PAIR:
            features = _as_nominal(derivation, features, nominal)
        (told,) = told_in([Number(derivation.make, derivation.offset)], features, system, wraps)
        quantity = Quantity(VALUE, derivation.unit, nominal=nominal, wraps=wraps)
        limits = self.asked[0] if self.asked else Asked(key=VALUE)
        drawing = derivation.draw(*(f.shape for f in features)) if derivation.draw else Drawing()
        return Judgement((decided(quantity, limits, told, "done"),), drawing)

    def _nominal(self, of: Sequence[Feature | None], unit: Any) -> float | None:
        typed = self.nominal_mm if unit == "mm" else self.nominal_rad
        nominals = [f for f in of if f is not None]
        if typed is not None or len(nominals) < len(of):
            return typed
        try:
            return float(derivation_of(self.measure, nominals, self.given).make(*(f.shape for f in nominals)))
        except PlumbError:
            return None


def _as_nominal(derivation: Derivation, features: Sequence[Feature], nominal: float) -> list[Feature]:
    """Features in the world with those senses, of axes that have none of their own, in which the number is the nearest to what
    it should be: before the part is aligned nothing else tells them."""

    def off(some: Iterable[Feature]) -> float:
        return abs(float(derivation.make(*(f.shape for f in some))) - nominal)

    return list(min(itertools.product(*(_both_senses(f) for f in features)), key=off))


def _both_senses(feature: Feature) -> tuple[Feature, ...]:
    shape = feature.shape
    if shape.direction_of_it is None or (over := shape.turned_like(-shape.direction_of_it)) is shape:
        return (feature,)
    return feature, replace(feature, shape=over)


KIND = DimensionRecipe
