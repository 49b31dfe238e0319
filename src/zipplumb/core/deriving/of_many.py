"""Constructions and dimensions of three or more features."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..features import Feature, axis_line, axis_of, plane_of, spot_of
from ..frames import Array
from . import constructions as make
from .derivation import Derivation, Given
from .of_centers import of_centers


def of_many(features: Sequence[Feature], given: Given) -> list[Derivation]:
    shapes = [f.shape for f in features]
    found = in_common(features)
    if len(shapes) == 3 and all(plane_of(s) for s in shapes):
        found.append(Derivation("corner_of_the_three_planes", "", make.meet_three_planes))
    if all(axis_of(s) is not None for s in shapes):
        found.append(Derivation("point_nearest_to_the_axes", "", lambda *s: make.point_of_lines([axis_line(x) for x in s])))
    return found + of_centers(features, given)


def in_common(features: Sequence[Feature]) -> list[Derivation]:
    """The common axis or plane of several that are meant to be one (a common datum of ISO 5459)."""
    places = [f.extent for f in features]

    def reach(shapes: Sequence[Any]) -> list[Array]:
        """The places touched on each; for nominals, which have no extent, where they are."""
        spots = np.array([spot_of(s) for s in shapes])
        return [spots if there is None else there for there in places]

    if all(axis_of(f.shape) is not None for f in features):
        return [Derivation("common_axis", "", lambda *s: make.common_axis([axis_line(x) for x in s], reach(s)))]
    if all(plane_of(f.shape) is not None for f in features):
        return [Derivation("common_plane", "", lambda *s: make.common_plane(s, reach(s)))]
    return []
