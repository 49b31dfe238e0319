"""The words of every kind of row, one module a kind, of the same name as in core/sheet/kinds."""

from __future__ import annotations

import importlib
import pkgutil
from types import SimpleNamespace

from ...core.sheet import RowRecipe
from ._derivations import DERIVATIONS, derivation_words
from ._shared import KindWords

WORDS: dict[str, KindWords] = {
    module.name: importlib.import_module(f"{__name__}.{module.name}").WORDS
    for module in pkgutil.iter_modules(__path__)
    if not module.name.startswith("_")
}


def words_for(recipe: RowRecipe) -> KindWords:
    """The words of a row's kind."""
    return WORDS[recipe.kind]


def stem_of(kind: str, inside: bool) -> str:
    """The default name of a row of a kind, without its number."""
    return WORDS[kind].stem(SimpleNamespace(inside=inside))


__all__ = ["DERIVATIONS", "WORDS", "KindWords", "derivation_words", "stem_of", "words_for"]
