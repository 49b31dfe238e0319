"""Step by step: level, rotate, origin."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...alignment.steps import Axis, AxisTurn, Origin, align_steps, pose_of
from ...deriving import construct
from ...errors import AlignmentError
from ...features import Feature, plane_of, spot_of
from ...frames import cross
from ..base import FeatureRef, Model, Vector
from ..bases.lying import Lying, chosen_of
from ..bases.systems import KEPT, ActualFeature, Coordinates, SettledRecipe, SystemInputs


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


class StepsRecipe(SettledRecipe):
    """``onto``: the system that the same steps make of the nominals, so that the part's coordinates are the
    CAD's; or the steps' own system.

    A line or a bore has no sense of its own. With nominals it takes that of its nominal in which all features of the steps lie
    nearest to their nominals; without, that in which it was touched. Where nothing tells it, a person says how the part lies.
    """

    kind: Literal["steps"] = "steps"
    steps: Annotated[tuple[Step, ...], Field(min_length=1)]
    onto: Literal["nominal", "own"] = "nominal"

    def solve(self, given: SystemInputs) -> Alignment:
        onto = None
        if self.onto == "nominal":
            onto = pose_of(self._steps(given, lambda f: Feature(f.name, f.known_nominal)))
        free = [i for i in self._turned_by if _may_turn(given[i], onto is None)]
        places = []
        for turned in itertools.product((False, True), repeat=len(free)):
            over = {id(given[i]) for i, over in zip(free, turned, strict=True) if over}
            steps = self._steps(given, lambda f, over=over: _turned_over(f.feature) if id(f) in over else f.feature)
            places.append(Lying(pose_of(steps, onto), steps))
        best, others = chosen_of(places, given, self.near, onto is not None)
        names = " and ".join(given[i].name for i in free)
        found = replace(align_steps(best.steps, onto), others=others)
        return found.doubted(f"Nothing tells which way {names} points, so nothing judged here is proven. Say how the part lies."
                             if others else "")  # fmt: skip

    @property
    def _turned_by(self) -> list[int]:
        """The rows whose own direction turns the part."""
        single = [s.features[0] for s in self.steps if isinstance(s, TurnStep) and len(s.features) == 1]
        return list(dict.fromkeys(which for which in single if isinstance(which, int)))

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


def _may_turn(actual: ActualFeature, by_itself: bool) -> bool:
    """Its direction may be either. ``by_itself``: no nominal tells it, but the way it was touched."""
    found = actual.found
    if found is None:
        return False
    if by_itself:
        return found.sense == ""
    return found.made_of_senseless or (found.made is None and found.sense != "nominal" and bool(found.shape.senseless_))


def _turned_over(feature: Feature) -> Feature:
    shape = feature.shape
    plane = plane_of(shape)
    return replace(feature, shape=shape.turned_like(-shape.direction_of_it) if plane is None else plane.flipped())


def _circle_through(features: list[Feature]) -> Feature:
    """A bolt circle; it faces to where its holes, in their order, go round counterclockwise."""
    made = construct("circle_through_the_centers", features)
    if made.feature is None:
        raise AlignmentError(made.why_not, KEPT, "Choose other holes.")
    circle = made.feature.shape
    rel = np.array([spot_of(f.shape) for f in features]) - circle.center  # of a bore, any place of its axis
    area = cross(rel, np.roll(rel, -1, axis=0)).sum(axis=0)
    name = f"the circle through {features[0].name} and others"
    if area @ circle.normal > 0:
        return replace(made.feature, name=name)
    facing = replace(circle, normal=-circle.normal)
    return replace(made.feature, name=name, shape=facing)


KIND = StepsRecipe
