"""CAD files behind one door: ``read_step`` and the model that it gives."""

from .door import Limits, read_step
from .model import Body, CadModel, Face

__all__ = ["Body", "CadModel", "Face", "Limits", "read_step"]
