"""The run sheet: recipes in, results out."""

from ..readings import HitSet
from .base import Asked, Needed, RowRecipe, needs_of
from .bases.measured import MeasuredRecipe, criteria_of, data_for_fit
from .evaluate import evaluate
from .given import Kit, PartSurfaces, Sheet, SheetRow, StationPose
from .kinds import MEASURED
from .kinds.touched import TouchedRecipe
from .memory import Memory
from .recipes import recipe_from_dict
from .registry import KINDS, kind_of
from .results import Characteristic, FoundFeature, FoundSystem, RowResult
from .stations import FoundNetwork, Untied

__all__ = [
    "KINDS",
    "MEASURED",
    "Asked",
    "Characteristic",
    "FoundFeature",
    "FoundNetwork",
    "FoundSystem",
    "HitSet",
    "Kit",
    "MeasuredRecipe",
    "Memory",
    "Needed",
    "PartSurfaces",
    "RowRecipe",
    "RowResult",
    "Sheet",
    "SheetRow",
    "StationPose",
    "TouchedRecipe",
    "Untied",
    "criteria_of",
    "data_for_fit",
    "evaluate",
    "kind_of",
    "needs_of",
    "recipe_from_dict",
]  # fmt: skip
