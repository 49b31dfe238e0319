"""Datums in their order, and the system that they make: each takes what those before it left over (ISO 5459)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ..alignment import Alignment, Hold, align_holds
from ..deriving import construct
from ..errors import AlignmentError
from ..features import Feature, axis_of, direction_of, own_direction, plane_of, point_of
from ..frames import Motion
from .base import FeatureRef, Model
from .bases.association import Turned, outside
from .bases.systems import KEPT, ActualFeature, SystemInputs

OPPOSITE = -0.9  # of two normals, that mean a width and the plane midway in it


class Datum(Model):
    """One feature; two planes that face away from or toward each other, for the plane midway between them; or what is one
    datum together: axes in one line or planes of one level as A–B, or the places of its targets, each holding as firmly as
    the other (ISO 5459)."""

    features: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=6)]
    laid: Literal["least_squares", "outside"] = "least_squares"


def system_of(datums: Sequence[Datum], given: SystemInputs, near: Motion | None = None) -> Alignment:
    """The system of datums, the primary first. Raises AlignmentError where they make none."""
    return align_holds(_holds(levels_of(datums, given, near)), strict=True, near=near)


def _holds(levels: Sequence[Sequence[Hold]]) -> list[Hold]:
    return [hold for level in levels for hold in level]


def levels_of(datums: Sequence[Datum], given: SystemInputs, near: Motion | None = None) -> list[list[Hold]]:
    """How each datum holds the part, the primary first. Raises AlignmentError where one cannot."""
    found, before = [], Turned()
    rough = None
    if any(datum.laid == "outside" for datum in datums):  # how the part lies tells which way its axes point
        by_squares = [datum.model_copy(update={"laid": "least_squares"}) for datum in datums]
        rough = align_holds(_holds(levels_of(by_squares, given)), strict=True, near=near).part_from_world
    for level, datum in enumerate(datums, start=1):
        features = [given[i] for i in datum.features]
        if datum.laid == "outside":
            features = [outside(feature, i, before) for feature, i in zip(features, datum.features, strict=True)]
        if rough is not None:
            features = [feature.pointing_as(rough) for feature in features]
        found.append(_holds_of(datum, features, level))
        nominal, actual = features[0].nominal, features[0].feature.shape
        if direction_of(nominal) is not None and direction_of(actual) is not None:
            before = before.then(own_direction(nominal), own_direction(actual))
    return found


def _holds_of(datum: Datum, features: Sequence[ActualFeature], level: int) -> list[Hold]:
    if len(set(datum.features)) < len(features):
        raise AlignmentError(f"{features[0].name} is named twice in one datum.", KEPT, "Name each once.")
    if len(features) == 2 and _face_each_other(*features):
        return [_midway(features[0], features[1], level)]
    shapes = [feature.known_nominal for feature in features]
    if len(shapes) > 1 and not any(all(of(shape) is not None for shape in shapes) for of in (plane_of, axis_of)):
        names = " and ".join(feature.name for feature in features)
        raise AlignmentError(f"{names} are no one datum.", KEPT, "Name planes of one level, axes in one line, or two faces.")
    return [feature.hold(feature.own_directions, None, level) for feature in features]


def _face_each_other(first: ActualFeature, second: ActualFeature) -> bool:
    planes = [plane_of(f.known_nominal) for f in (first, second)]
    places = any(point_of(f.feature.shape) is not None for f in (first, second))
    return not places and all(p is not None for p in planes) and float(planes[0].normal @ planes[1].normal) < OPPOSITE  # type: ignore[union-attr]


def _midway(first: ActualFeature, second: ActualFeature, level: int) -> Hold:
    nominal = construct("middle_plane", [Feature(f.name, f.nominal) for f in (first, second)])
    actual = construct("middle_plane", [first.feature, second.feature])
    if nominal.feature is None or actual.feature is None:
        raise AlignmentError(nominal.why_not or actual.why_not, KEPT, "Choose two planes that face each other.")
    u = float(np.hypot(first.u_mm, second.u_mm) / 2)
    reach = np.vstack([first.contacts, second.contacts])
    name = f"{first.letter}-{second.letter}"
    made = actual.feature
    return Hold(name, nominal.feature.shape, made.shape, ("own",), u, level, reach, feature=made)
