"""The run sheet: recipes in, results out."""

from .evaluate import evaluate
from .recipes import (
    CylinderRecipe,
    DatumPlanesRecipe,
    DistanceRecipe,
    NominalCylinder,
    NominalPlane,
    PlaneRecipe,
    Recipe,
    Tolerance,
    recipe_from_dict,
)
from .results import Kit, Reading, RowResult, Sheet, SheetRow, Station

__all__ = [
    "CylinderRecipe",
    "DatumPlanesRecipe",
    "DistanceRecipe",
    "Kit",
    "NominalCylinder",
    "NominalPlane",
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
