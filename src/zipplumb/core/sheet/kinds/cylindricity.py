"""Cylindricity: two cylinders about one axis."""

from __future__ import annotations

from typing import Literal

from ...shapes import Cylinder
from ..toleranced.form import FormRecipe


class CylindricityRecipe(FormRecipe):
    kind: Literal["cylindricity"] = "cylindricity"
    fits = "cylinder"
    for_types = (Cylinder,)
    for_words = "a bore or a boss"


KIND = CylindricityRecipe
