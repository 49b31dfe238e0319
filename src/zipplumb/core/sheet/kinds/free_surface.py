"""A free surface of the CAD: hits anywhere on one face that is of no simpler shape, each judged by how far it lies off."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ..base import Internal
from ..given import PartSurfaces
from .proof import ProofRecipe


class FreeSurfaceRecipe(ProofRecipe):
    """``face``: of the part's CAD, which is what it should be: the profile of a surface (ISO 1101) in the active system."""

    kind: Literal["free_surface"] = "free_surface"  # type: ignore[assignment]
    of_free_faces = True
    zoned = True
    typed = False
    face: Annotated[int, Internal(), Field(ge=0, lt=2**31)]
    hits: Annotated[int, Field(ge=1, le=10_000)] = 25

    @property
    def wanted_hits(self) -> int:
        return self.hits

    def surfaces_of(self, part: PartSurfaces) -> PartSurfaces:
        return part.of_face(self.face)

    @classmethod
    def of_face(cls, index: int, nominal: Any, inside: bool) -> dict[str, Any]:
        return {"kind": cls.key(), "face": index}


KIND = FreeSurfaceRecipe
