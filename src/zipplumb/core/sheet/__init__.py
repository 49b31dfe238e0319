"""The run sheet: recipes in, results out."""

from .alignments import AlignmentRecipe, DatumPlanesRecipe
from .base import Tolerance
from .evaluate import evaluate
from .features import FEATURE_KINDS, CylinderRecipe, FeatureRecipe, NominalCylinder, NominalPlane, PlaneRecipe
from .recipes import DistanceRecipe, Recipe, recipe_from_dict
from .results import Kit, PartSurfaces, Reading, RowResult, Sheet, SheetRow, Station

__all__ = [
    "FEATURE_KINDS",
    "AlignmentRecipe",
    "CylinderRecipe",
    "DatumPlanesRecipe",
    "DistanceRecipe",
    "FeatureRecipe",
    "Kit",
    "NominalCylinder",
    "NominalPlane",
    "PartSurfaces",
    "PlaneRecipe",
    "Reading",
    "Recipe",
    "RowResult",
    "Sheet",
    "SheetRow",
    "Station",
    "Tolerance",
    "evaluate",
    "recipe_from_dict",
]
