"""Words of a section through a scan."""

from .deviations import DeviationsWords


class ScanSectionWords(DeviationsWords):
    noun = "scan section"
    fields = {
        "thick_mm": "Points so near to the plane tell of it",
        "reach_mm": "What lies farther off the CAD is not of the part",
        "times": "Whiskers are longer, times",
    }


WORDS = ScanSectionWords()
