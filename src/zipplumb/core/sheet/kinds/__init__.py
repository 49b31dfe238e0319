"""The kinds of rows, one module each. To add a kind, add its module here and its words in jobs/words."""

from __future__ import annotations

import importlib
import pkgutil

from ..registry import KINDS

for module in pkgutil.iter_modules(__path__):
    KINDS[module.name] = importlib.import_module(f"{__name__}.{module.name}").KIND
MEASURED = tuple(key for key, kind in KINDS.items() if kind.takes_hits)
