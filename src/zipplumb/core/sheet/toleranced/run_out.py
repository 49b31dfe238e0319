"""Run-out (ISO 1101): the reading of a dial as the part turns on a datum axis, radial on round features, axial on faces."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...alignment import Alignment
from ...errors import DeriveError
from ...features import Feature, axis_line, plane_of
from ...frames import Array
from ...tolerances.zones import from_axis
from ..results import FoundFeature
from .base import KEPT, Member, Zone, surface_of


def touched_of(row: int, found: FoundFeature, types: tuple[type, ...], words: str) -> Member:
    """The places touched. Raises DeriveError where it is of none of the types."""
    if not isinstance(found.shape, types):
        raise DeriveError(f"{found.name} has no such run-out.", KEPT, f"Choose {words}.")
    return surface_of(row, found)


def turned_about(member: Member, datum: Feature, system: Alignment | None) -> Zone:
    face = plane_of(member.found.shape) is not None

    def read(points: Array, shape: Any) -> Array:
        axis = axis_line(shape)
        return points @ axis.direction if face else from_axis(points, axis.point, axis.direction)

    return Zone(lambda *where: float(np.ptp(read(*where))), (datum,), system, signed=read)
