"""Step by step: level, rotate, origin."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...alignment.steps import Axis, AxisTurn, Origin, align_steps
from ...deriving import construct
from ...errors import AlignmentError
from ...features import Feature, point_of
from ...frames import cross
from ..base import FeatureRef, Model, Vector
from ..bases.systems import KEPT, ActualFeature, Coordinates, SystemInputs, SystemRecipe


class Pattern(Model):
    """The circle through the centers of several rows, in their order: a bolt circle."""

    through: Annotated[tuple[FeatureRef, ...], Field(min_length=3)]


FeatureOrPattern = FeatureRef | Pattern


class TurnStep(Model):
    """A direction laid along an axis: of one feature, or from one center to another."""

    step: Literal["turn"] = "turn"
    features: Annotated[tuple[FeatureOrPattern, ...], Field(min_length=1, max_length=2)]
    axis: Axis
    degrees: float = 0.0


class OriginStep(Model):
    """Where some coordinates of a feature are."""

    step: Literal["origin"] = "origin"
    feature: FeatureOrPattern
    coordinates: Coordinates = "XYZ"
    at_mm: Vector = (0.0, 0.0, 0.0)


Step = Annotated[TurnStep | OriginStep, Field(discriminator="step")]


class StepsRecipe(SystemRecipe):
    """``onto``: the system that the same steps make of the nominals, so that the part's coordinates are the
    CAD's; or the steps' own system."""

    kind: Literal["steps"] = "steps"
    steps: Annotated[tuple[Step, ...], Field(min_length=1)]
    onto: Literal["nominal", "own"] = "nominal"

    def solve(self, given: SystemInputs) -> Alignment:
        actual = self._steps(given, lambda f: f.feature)
        if self.onto == "own":
            return align_steps(actual)
        nominal = align_steps(self._steps(given, lambda f: Feature(f.name, f.known_nominal))).part_from_world
        return align_steps(actual, nominal)

    def _steps(self, given: SystemInputs, feature_of: Callable[[ActualFeature], Feature]) -> list[AxisTurn | Origin]:
        def feature(which: int | Pattern) -> Feature:
            if isinstance(which, Pattern):
                return _circle_through([feature_of(given[i].whole) for i in which.through])
            return feature_of(given[which].whole)

        found: list[AxisTurn | Origin] = []
        for step in self.steps:
            if isinstance(step, TurnStep):
                found.append(AxisTurn(tuple(feature(f) for f in step.features), step.axis, step.degrees))
            else:
                found.append(Origin(feature(step.feature), step.coordinates, step.at_mm))
        return found


def _circle_through(features: list[Feature]) -> Feature:
    """A bolt circle; it faces to where its holes, in their order, go round counterclockwise."""
    made = construct("circle_through_the_centers", features)
    if made.feature is None:
        raise AlignmentError(made.why_not, KEPT, "Choose other holes.")
    circle = made.feature.shape
    rel = np.array([point_of(f.shape) for f in features]) - circle.center
    area = cross(rel, np.roll(rel, -1, axis=0)).sum(axis=0)
    name = f"the circle through {features[0].name} and others"
    if area @ circle.normal > 0:
        return replace(made.feature, name=name)
    facing = replace(circle, normal=-circle.normal)
    return replace(made.feature, name=name, shape=facing)


KIND = StepsRecipe
