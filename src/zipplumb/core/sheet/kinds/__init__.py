"""The kinds of rows, one module each. To add a kind, add its module here and its words in jobs/words."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Mapping
from typing import Any

from ..base import RowRecipe
from ..measured import MeasuredRecipe

KINDS: dict[str, type[RowRecipe]] = {
    module.name: importlib.import_module(f"{__name__}.{module.name}").KIND for module in pkgutil.iter_modules(__path__)
}
MEASURED = tuple(key for key, kind in KINDS.items() if kind.takes_hits)


def kind_of(stored: Mapping[str, Any]) -> type[RowRecipe]:
    """The kind of a stored recipe."""
    return KINDS[stored["kind"]]


def data_for_fit(fit_kind: str) -> dict[str, Any] | None:
    """A recipe's data, without a name, for what was recognised as such a shape, or None."""
    kinds = (kind for kind in KINDS.values() if issubclass(kind, MeasuredRecipe))
    return next((raw for kind in kinds if (raw := kind.for_fit(fit_kind)) is not None), None)


def of_free_faces() -> type[MeasuredRecipe]:
    """The kind that measures a face of no shape that has a name."""
    return next(kind for kind in KINDS.values() if issubclass(kind, MeasuredRecipe) and kind.of_free_faces)


def measured_as(shape: Any) -> type[MeasuredRecipe] | None:
    """The kind that measures such a shape, or None."""
    for kind in KINDS.values():
        if issubclass(kind, MeasuredRecipe) and kind.of_its_shape and kind.shape_type is type(shape):
            return kind
    return None
