"""CAD files: ``read_cad`` and the model that it gives."""

from .model import Body, CadModel, Face
from .reader import Limits, read_cad

__all__ = ["Body", "CadModel", "Face", "Limits", "read_cad"]
