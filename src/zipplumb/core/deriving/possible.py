"""Everything that can be made of some features, each with its value, uncertainty and drawing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError, PlumbError
from ..uncertainty import coverage_factor, propagate
from .constructions import FARTHEST_MM
from .drawing import Drawing, drawn, reach_of
from .features import Feature, differences, frame_of
from .recipes import Given, Recipe, Unit, recipes_for

NOTHING_DRAWN, NOTHING_GIVEN = Drawing(), Given()


@dataclass(frozen=True, eq=False)
class Possible:
    """One thing that can be made.

    Attributes
    ----------
    name : what it is, in words
    unit : "mm" or "rad" for a value, "" for a shape
    value, u : the value and its standard uncertainty; NaN for a shape
    feature : the made shape with its covariance, ready for further constructions; None for a value
    draw : what shows it
    why_not : why it cannot be made of these; then there is nothing else
    """

    name: str
    unit: Unit = ""
    value: float = float("nan")
    u: float = float("nan")
    feature: Feature | None = None
    draw: Drawing = NOTHING_DRAWN
    why_not: str = ""


def possible(features: Sequence[Feature], given: Given = NOTHING_GIVEN) -> list[Possible]:
    """All that can be made of one, two, three or more features, in the order they are mostly wanted.

    Parameters
    ----------
    given : numbers that some constructions need: an offset, a height, a diameter
    """
    return [made(recipe, features) for recipe in recipes_for(features, given)]


def construct(name: str, features: Sequence[Feature], given: Given = NOTHING_GIVEN) -> Possible:
    """One of what ``possible`` offers, by its name. Raises DeriveError where there is none of that name."""
    recipe = next((r for r in recipes_for(features, given) if r.name == name), None)
    if recipe is None:
        what = " and ".join(f.name for f in features)
        raise DeriveError(f"“{name}” cannot be made of {what}.", "The features are kept.", "Choose another construction.")
    return made(recipe, features)


def made(recipe: Recipe, features: Sequence[Feature]) -> Possible:
    """One recipe carried out, with its uncertainty (linear, JCGM 100); or why it cannot be."""
    shapes = [f.shape for f in features]
    try:
        if recipe.unit:
            values, covariance = propagate(recipe.make, features)
            draw = recipe.draw(*shapes) if recipe.draw else NOTHING_DRAWN
            u = float(np.sqrt(np.maximum(covariance[0, 0], 0.0)))
            return Possible(recipe.name, recipe.unit, float(values[0]), u, draw=draw)
        feature = made_feature(recipe, features)
        return Possible(recipe.name, feature=feature, draw=drawn(feature.shape, reach_of(list(features))))
    except PlumbError as error:
        return Possible(recipe.name, recipe.unit, why_not=f"{error}{_how_far(recipe, features)}")


def _how_far(recipe: Recipe, features: Sequence[Feature]) -> str:
    """How well it is known how far away a refused construction is."""
    if recipe.away is None:
        return ""
    values, covariance = propagate(recipe.away, features)
    U = coverage_factor() * float(np.sqrt(max(covariance[0, 0], 0.0)))
    if not U > 0 or values[0] > FARTHEST_MM:
        return ""
    known = f"is known to ±{U:.2g} mm only" if values[0] > U else "is not known at all: they may as well be parallel"
    return f" How far away {known}."


def made_feature(recipe: Recipe, features: Sequence[Feature]) -> Feature:
    """The made shape with the covariance of its own moves and sizes."""
    shape = recipe.make(*(f.shape for f in features))
    local = frame_of(shape)
    _, covariance = propagate(lambda *shapes: differences(recipe.make(*shapes), local), features)
    return Feature(recipe.name, shape, local, covariance)
