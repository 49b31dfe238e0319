"""All constructions and dimensions of chosen features, each with its value, uncertainty and drawing."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from ..errors import DeriveError, PlumbError
from ..features import Feature, differences, frame_of
from ..uncertainty import Uncertainty, coverage_factor, exact, propagate
from ..units import mm
from .constructions import FARTHEST_MM, KEPT
from .derivation import Derivation, Given, Unit
from .drawing import Drawing, drawn, reach_of, reach_on
from .registry import derivations_for

log = logging.getLogger(__name__)
REMEMBERED = 256  # sets of features
UNKNOWN_RAD = np.radians(15)  # an angle known no better is of no use
NOTHING_DRAWN, NOTHING_GIVEN, NOTHING_KNOWN = Drawing(), Given(), exact(0)


@dataclass(frozen=True, eq=False)
class Possible:
    """One thing that can be made.

    Attributes
    ----------
    key : what it is, as the registry calls it
    unit : "mm" or "rad" for a value, "" for a shape
    value, uncertainty : the value and its uncertainty by source; NaN and none for a shape
    feature : the made shape with its covariance, ready for further constructions; None for a value
    draw : what shows it
    why_not : why it cannot be made of these; then there is nothing else
    in_axes : it is told along the axes of a coordinate system
    at : where its centers are taken, in words, where they might be elsewhere
    """

    key: str
    unit: Unit = ""
    value: float = float("nan")
    uncertainty: Uncertainty = NOTHING_KNOWN
    feature: Feature | None = None
    draw: Drawing = NOTHING_DRAWN
    why_not: str = ""
    in_axes: bool = False
    at: str = ""

    @property
    def u(self) -> float:
        """Standard uncertainty of the value; NaN for a shape."""
        return self.uncertainty.u() if self.uncertainty.size else float("nan")


def possible(features: Sequence[Feature], given: Given = NOTHING_GIVEN) -> list[Possible]:
    """All that can be made of one, two, three or more features, in the order they are mostly wanted.

    Parameters
    ----------
    given : numbers that some constructions need: an offset, a height, a diameter
    """
    return [made(derivation, features) for derivation in derivations_for(features, given)]


def derivation_of(key: str, features: Sequence[Feature], given: Given = NOTHING_GIVEN) -> Derivation:
    """The registry's entry of that key for these features. Raises DeriveError where there is none."""
    found = _by_key(tuple(features), given).get(key)
    if found is None:
        what = " and ".join(f.name for f in features)
        words = key.replace("_", " ")
        raise DeriveError(f"“{words}” cannot be made of {what}.", "The features are kept.", "Choose another construction.")
    return found


@lru_cache(REMEMBERED)
def _by_key(features: tuple[Feature, ...], given: Given) -> dict[str, Derivation]:
    """The registry's entries for some features, of which one key after another is asked; the first of a key counts."""
    found: dict[str, Derivation] = {}
    for derivation in derivations_for(features, given):
        found.setdefault(derivation.key, derivation)
    return found


def construct(key: str, features: Sequence[Feature], given: Given = NOTHING_GIVEN) -> Possible:
    """One of what ``possible`` offers, by its key. Raises DeriveError where there is none of that key.

    Examples
    --------
    >>> from zipplumb.core.frames import Motion
    >>> from zipplumb.core.shapes import Sphere
    >>> size = 7  # six small moves, and the radius
    >>> balls = [
    ...     Feature.known(f"Ball {k}", Sphere([300.0 * k, 400.0 * k, 0], 12.5), Motion.identity(), 1e-4 * np.eye(size))
    ...     for k in (0, 1)
    ... ]
    >>> found = construct("distance_of_the_middles", balls)
    >>> round(found.value, 6), round(found.u, 4)
    (500.0, 0.0141)
    """
    return made(derivation_of(key, features, given), features)


def made(derivation: Derivation, features: Sequence[Feature]) -> Possible:
    """One derivation carried out, with its uncertainty by source (linear, JCGM 100); or why it cannot be."""
    shapes, key, unit = [f.shape for f in features], derivation.key, derivation.unit
    told: dict[str, Any] = {"in_axes": derivation.in_axes, "at": derivation.at}
    try:
        if unit:
            values, uncertainty = propagate(derivation.make, features, wraps=unit == "rad")
            if unit == "rad" and 2 * uncertainty.u() > UNKNOWN_RAD:
                raise DeriveError("The angle may be any: what makes it is too short.", KEPT, "Measure what is farther apart.")
            draw = derivation.draw(*shapes) if derivation.draw else NOTHING_DRAWN
            return Possible(key, unit, float(values[0]), uncertainty, draw=draw, **told)
        feature = made_feature(derivation, features)
        return Possible(key, feature=feature, draw=drawn(feature.shape, reach_of(list(features))), **told)
    except PlumbError as error:
        return Possible(key, unit, why_not=f"{error}{_how_far(derivation, features)}", **told)
    except Exception as error:  # one that cannot be must not take the others with it
        log.error("a fault in %s", key, exc_info=error)
        return Possible(key, unit, why_not=f"It could not be worked out ({type(error).__name__}). {KEPT}", **told)


def _how_far(derivation: Derivation, features: Sequence[Feature]) -> str:
    """How well it is known how far away a refused construction is."""
    if derivation.away is None:
        return ""
    values, uncertainty = propagate(derivation.away, features)
    U = coverage_factor() * uncertainty.u()
    if not U > 0 or values[0] > FARTHEST_MM:
        return ""
    known = f"is known to ±{mm(U, '.2g')} only" if values[0] > U else "is not known at all: they may as well be parallel"
    return f" How far away {known}."


def made_feature(derivation: Derivation, features: Sequence[Feature]) -> Feature:
    """The made shape with the uncertainty of its own moves and sizes, from the sources of what it is made of."""
    shape = derivation.make(*(f.shape for f in features))
    local = frame_of(shape)
    _, uncertainty = propagate(lambda *shapes: differences(derivation.make(*shapes), local), features)
    return Feature(derivation.key.replace("_", " "), shape, local, uncertainty, reach_on(shape, features))
