"""How the part may lie where the sense of an axis is not known: all ways, and the one that the features tell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...alignment.aligned import Place
from ...alignment.places import place_beside, turn_between
from ...alignment.steps import AxisTurn, Origin
from ...errors import AlignmentError
from ...features import plane_of, spot_of
from ...frames import Motion
from .systems import ActualFeature, SystemInputs

CLEARLY = 3.0  # so many times as far off their nominals the features lie, where the part surely does not lie so
OF_REACH = 0.02  # and by so much of how far they reach


@dataclass(frozen=True, eq=False)
class Lying:
    """A way in which the part may lie: part_from_world, and the steps that lay it so."""

    pose: Motion
    steps: list[AxisTurn | Origin]


def chosen_of(
    ways: Sequence[Lying], given: SystemInputs, near: Motion | None, by_nominals: bool
) -> tuple[Lying, tuple[Place, ...]]:
    """The way in which the features lie nearest to their nominals, and others in which they lie about as near.

    ``near``: a person's choice; ``by_nominals``: they are in the coordinates that are made, else all ways are as likely.
    """
    if len(ways) == 1:
        return ways[0], ()
    off = [_off_mm(way.pose, given) if by_nominals else 0.0 for way in ways]
    least = min(off)
    spots = np.array([spot_of(f.feature.shape) for f in given.features.values()])
    limit = max(CLEARLY * least, least + OF_REACH * float(np.linalg.norm(np.ptp(spots, axis=0))))
    likely = [way for way, mm in zip(ways, off, strict=True) if mm <= limit]
    if near is not None:
        return min(likely, key=lambda way: turn_between(way.pose, near)), ()
    best = ways[off.index(least)]
    return best, tuple(place_beside(best.pose, way.pose) for way in likely if way is not best)


def _off_mm(pose: Motion, given: SystemInputs) -> float:
    """How far the features lie off their nominals at the most; without end where one faces against its nominal."""
    return max((_off(feature, pose) for feature in given.features.values() if feature.nominal is not None), default=0.0)


def _off(feature: ActualFeature, pose: Motion) -> float:
    plane, wanted = plane_of(feature.feature.shape), plane_of(feature.nominal)
    faces = feature.found is None or not feature.found.made_of_senseless
    if plane is not None and wanted is not None and faces and pose.vectors(plane.normal) @ wanted.normal < 0:
        return float("inf")
    try:
        return float(np.linalg.norm(feature.offset_at(pose)))
    except AlignmentError:
        return 0.0
