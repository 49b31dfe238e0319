"""Words of an alignment: touches on the surfaces."""

from ._shared import SystemWords


class SurfacesWords(SystemWords):
    noun = "touches on the surfaces"
    fields = {
        "features": "Touched rows",
        "u_mm": "Uncertainty with the surface's form",
        "reject": "Set aside what is not of them",
    }


WORDS = SurfacesWords()
