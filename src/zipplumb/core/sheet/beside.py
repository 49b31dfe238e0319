"""A feature and its nominal side by side in a coordinate system: with one sense, and taken at one place.

A line or a bore has no sense of its own. Its nominal has one, and in a system the measured one takes it over; what is made of
features is made there anew of those that were turned. A nominal line or plane may be given by any of its places: it is given
by the one where the actual was touched, as far as that was touched, so that a distance that depends on the place is compared
with what it should be there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from ..alignment import Alignment
from ..deriving.drawing import reach_on
from ..errors import PlumbError
from ..features import Feature, spot_of, ways_of
from ..shapes import BaseShape
from .judging import in_system
from .results import FoundFeature, Made


@dataclass(frozen=True, eq=False)
class Beside:
    """``actual`` and ``nominal`` in one system; no nominal where it has none. ``turned``: not as it was found in the world."""

    actual: Feature
    turned: bool
    nominally: Callable[[], Feature | None]

    @cached_property
    def nominal(self) -> Feature | None:
        return self.nominally()


def beside(found: FoundFeature, system: Alignment | None) -> Beside:
    """A feature that is there, and its nominal. Without a system nothing is known of the other's sense and place."""
    kept = found.__dict__.get("_beside")
    if kept is None or kept[0] is not system:
        kept = system, _beside(found, system)
        object.__setattr__(found, "_beside", kept)
    return kept[1]


def _beside(found: FoundFeature, system: Alignment | None) -> Beside:
    assert found.feature is not None
    actual = in_system(found.feature, system)
    if system is None:
        return Beside(actual, False, lambda: None if found.nominal is None else Feature(found.name, found.nominal))
    return _measured(actual, found.nominal) if found.made is None else _made(actual, found.name, found.made, system)


def _made(actual: Feature, name: str, made: Made, system: Alignment) -> Beside:
    parents = [beside(parent, system) for parent in made.of]
    turned = any(parent.turned for parent in parents)
    if turned:
        actual = replace(made.again([parent.actual for parent in parents]), name=name)

    def nominally() -> Feature | None:
        nominals = [parent.nominal for parent in parents if parent.nominal is not None]
        try:
            return replace(made.again(nominals), name=name) if len(nominals) == len(parents) else None
        except PlumbError:
            return None

    return Beside(actual, turned, nominally)


def _measured(actual: Feature, nominal: Any) -> Beside:
    if not isinstance(nominal, BaseShape):
        return Beside(actual, False, lambda: None)
    shape = actual.shape.turned_like(*ways_of(nominal)) if actual.shape.senseless_ else actual.shape
    turned = shape is not actual.shape

    def nominally() -> Feature:
        there = nominal.sliding_to(spot_of(actual.shape))
        return Feature(actual.name, there, extent=None if actual.extent is None else reach_on(there, [actual]))

    return Beside(replace(actual, shape=shape) if turned else actual, turned, nominally)
