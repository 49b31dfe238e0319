"""Roundness: two circles about one center, in the plane of the cut."""

from __future__ import annotations

from typing import Literal

from ...shapes import Arc, Circle
from ..toleranced.form import FormRecipe


class RoundnessRecipe(FormRecipe):
    kind: Literal["roundness"] = "roundness"
    fits = "circle"
    for_types = (Circle, Arc)
    for_words = "a circle or an arc that was touched"


KIND = RoundnessRecipe
