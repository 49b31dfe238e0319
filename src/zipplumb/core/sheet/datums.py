"""Datums in their order, and the system that they make: each takes what those before it left over (ISO 5459)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import numpy as np
from pydantic import Field

from ..alignment import Alignment, Hold, align_holds
from ..deriving import construct
from ..errors import AlignmentError
from ..features import Feature, plane_of
from ..frames import Motion
from .base import FeatureRef, Model
from .systems import KEPT, SystemInputs


class Datum(Model):
    """One feature, or two planes for the plane midway between them."""

    features: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=2)]


def system_of(datums: Sequence[Datum], given: SystemInputs, near: Motion | None = None) -> Alignment:
    """The system of datums, the primary first. Raises AlignmentError where they make none."""
    holds = [hold_of(datum, given, level) for level, datum in enumerate(datums, start=1)]
    return align_holds(holds, strict=True, near=near)


def hold_of(datum: Datum, given: SystemInputs, level: int) -> Hold:
    """How a datum holds the part. Raises AlignmentError where it cannot."""
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
