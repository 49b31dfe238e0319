"""Profile of a surface."""

from __future__ import annotations

from typing import Literal

from ...shapes import Circle, Cone, Cylinder, Plane, Sphere, Torus
from ..toleranced.profile import ProfileRecipe


class SurfaceProfileRecipe(ProfileRecipe):
    kind: Literal["surface_profile"] = "surface_profile"
    for_types = (Circle, Cone, Cylinder, Plane, Sphere, Torus)
    for_words = "surface"


KIND = SurfaceProfileRecipe
