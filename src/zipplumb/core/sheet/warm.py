"""A coordinate system that refers lengths to 20 °C although the part was measured at another temperature (ISO 1)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ..alignment import Alignment
from ..frames import Array, Motion, small_motion
from ..uncertainty import Source, Uncertainty
from .bases.systems import SystemInputs, SystemRecipe, scale_factor, u_scale_factor

STEP = 1e-6  # of the scale, for the difference by which its share of the uncertainty is told


def solved(recipe: SystemRecipe, given: SystemInputs) -> Alignment:
    """The alignment that a recipe makes; where its material and temperature are given, with lengths reduced to 20 °C.

    Raises AlignmentError with the reason.
    """
    if recipe.warm is None:
        return recipe.solve(given)
    scale = scale_factor(recipe.warm)
    assert scale is not None
    by = Uncertainty(1, {Source("temperature"): np.array([[u_scale_factor(recipe.warm)]])})
    return at_scale(recipe.solve, given, scale, by)


def as_in(active: Alignment, solve: Callable[[SystemInputs], Alignment], given: SystemInputs) -> Alignment:
    """Another system, which takes of the active one by what lengths are scaled: at 20 °C, or to what was known."""
    if active.uncertainty.size < 7:
        return solve(given)
    return at_scale(solve, given, active.scale, active.uncertainty.at(6))


def at_scale(solve: Callable[[SystemInputs], Alignment], given: SystemInputs, scale: float, by: Uncertainty) -> Alignment:
    """An alignment solved with scaled lengths; the uncertainty of the scale is given by source."""
    found, other = solve(given.scaled(scale)), solve(given.scaled(scale * (1 + STEP)))
    own = found.uncertainty.through(np.eye(7)[:, :6])
    return replace(found, scale=scale, uncertainty=own + by.through(_answer(found, other) / scale))


def _answer(found: Alignment, other: Alignment) -> Array:
    """(7, 1): the slide, turn and scale of the part, by a scale that is larger by a share of 1."""
    from_world, after = found.part_from_world, other.part_from_world
    moved = after @ from_world.inverse()
    slide = after.translation - (1 + STEP) * (moved.rotation @ from_world.translation)
    six = small_motion(Motion(moved.rotation, slide)) / STEP
    return np.concatenate([six, [1.0]])[:, None]
