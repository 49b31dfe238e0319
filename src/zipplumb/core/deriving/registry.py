"""The registry of constructions and dimensions by the features they take, the most frequently used first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from ..features import Feature
from .derivation import Derivation, Given
from .of_many import of_many
from .of_one import of_one
from .of_two import of_two


def derivations_for(features: Sequence[Feature], given: Given) -> list[Derivation]:
    """All that there is for these features, whether it will succeed or not."""
    if len(features) == 1:
        return of_one(features[0].shape, given)
    if len(features) == 2:
        return of_two(features[0], features[1], given)
    return of_many(features, given)


ANGLES = (
    "angle",
    "supplement",
    "full_angle",
    "out_of_parallel",
    "angle_seen_along_x",
    "angle_seen_along_y",
    "angle_seen_along_z",
)


def unit_of(key: str) -> Literal["mm", "rad"]:
    """The unit of a derivation that gives a number."""
    return "rad" if key in ANGLES else "mm"
