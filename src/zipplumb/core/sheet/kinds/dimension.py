"""A distance or an angle of features: which, by the registry of derivations, and what it should be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ...alignment import Alignment
from ...deriving import Drawing, derivation_of, unit_of
from ...errors import DeriveError, PlumbError
from ...features import Feature
from ...units import Unit
from ..base import Asked
from ..bases.derived import DerivedRecipe
from ..judged import JudgedRecipe, Judgement, NeedsSystem
from ..judging import Number, decided, in_system, told_in
from ..quantities import Quantity
from ..results import FoundFeature

VALUE = "value"


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
        of = [found[i] for i in self.of]
        features = [in_system(f.feature, system) for f in of if f.feature is not None]
        derivation = derivation_of(self.measure, features, self.given)
        if not derivation.unit:
            raise DeriveError("That is a feature, not a number.", "The features are kept.", "Choose a dimension.")
        if derivation.in_axes and system is None:
            raise NeedsSystem("A distance or an angle along an axis needs the part aligned.")
        (told,) = told_in([Number(derivation.make, derivation.offset)], features, system, wraps=derivation.unit == "rad")
        quantity = Quantity(VALUE, derivation.unit, nominal=self._nominal(of, derivation.unit))
        limits = self.asked[0] if self.asked else Asked(key=VALUE)
        drawing = derivation.draw(*(f.shape for f in features)) if derivation.draw else Drawing()
        return Judgement((decided(quantity, limits, told, "done"),), drawing)

    def _nominal(self, of: Sequence[FoundFeature], unit: Any) -> float | None:
        typed = self.nominal_mm if unit == "mm" else self.nominal_rad
        if typed is not None or any(f.nominal is None for f in of):
            return typed
        try:
            nominals = [Feature(f.name, f.nominal) for f in of]
            return float(derivation_of(self.measure, nominals, self.given).make(*(f.shape for f in nominals)))
        except PlumbError:
            return None


KIND = DimensionRecipe
