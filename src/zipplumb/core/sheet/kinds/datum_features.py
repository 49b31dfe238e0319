"""Datum features: planes, axes, points and middle planes, each taking what those before it left over."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment, Hold, align_holds
from ...deriving import construct
from ...errors import AlignmentError
from ...features import Feature, plane_of
from ..base import FeatureRef, Model
from ..systems import KEPT, SettledRecipe, SystemInputs


class Datum(Model):
    """One feature, or two planes for the plane midway between them."""

    features: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=2)]


class DatumFeaturesRecipe(SettledRecipe):
    kind: Literal["datum_features"] = "datum_features"
    datums: Annotated[tuple[Datum, ...], Field(min_length=1, max_length=3)]

    def solve(self, given: SystemInputs) -> Alignment:
        holds = [_hold(datum, given, level) for level, datum in enumerate(self.datums, start=1)]
        return align_holds(holds, strict=True, near=self.near)


def _hold(datum: Datum, given: SystemInputs, level: int) -> Hold:
    features = [given[i] for i in datum.features]
    if len(features) == 1:
        return features[0].hold(features[0].own_directions, None, level)
    first, second = features
    if any(plane_of(s) is None for f in features for s in (f.known_nominal, f.feature.shape)):
        raise AlignmentError(f"{first.name} and {second.name} have no plane midway.", KEPT, "Choose two planes.")
    nominal = construct("middle_plane", [Feature(f.name, f.nominal) for f in features])
    actual = construct("middle_plane", [f.feature for f in features])
    if nominal.feature is None or actual.feature is None:
        raise AlignmentError(nominal.why_not or actual.why_not, KEPT, "Choose two planes that face each other.")
    u = float(np.hypot(first.u_mm, second.u_mm) / 2)
    reach = np.vstack([first.contacts, second.contacts])
    name = f"{first.letter}-{second.letter}"
    made = actual.feature
    return Hold(name, nominal.feature.shape, made.shape, ("own",), u, level, reach, feature=made)


KIND = DatumFeaturesRecipe
