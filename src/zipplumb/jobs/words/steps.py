"""Words of an alignment: step by step."""

from ._shared import SystemWords


class StepsWords(SystemWords):
    noun = "step by step"
    fields = {
        "steps": "Steps",
        "onto": "Laid on",
        "axis": "Along",
        "degrees": "Turned on by, °",
        "coordinates": "Coordinates",
        "at_mm": "Here they are",
        "through": "Circle through",
    }


WORDS = StepsWords()
