"""Flatness: two parallel planes."""

from __future__ import annotations

from typing import Literal

from ...shapes import Plane
from ..toleranced.form import FormRecipe


class FlatnessRecipe(FormRecipe):
    kind: Literal["flatness"] = "flatness"
    fits = "plane"
    for_types = (Plane,)
    for_words = "a plane that was touched"


KIND = FlatnessRecipe
