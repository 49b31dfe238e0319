"""CAD files: ``read_step`` and the model that it gives."""

from .model import Body, CadModel, Face
from .reader import Limits, read_step

__all__ = ["Body", "CadModel", "Face", "Limits", "read_step"]
