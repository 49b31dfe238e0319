"""The parts that a report is put together from: a module for each, and a template of the same name in exchange."""

from __future__ import annotations

import importlib
import pkgutil

from .base import Gathering, Part

KINDS: dict[str, type[Part]] = {
    module.name: importlib.import_module(f"{__name__}.{module.name}").KIND
    for module in pkgutil.iter_modules(__path__)
    if module.name != "base"
}

__all__ = ["KINDS", "Gathering", "Part"]
