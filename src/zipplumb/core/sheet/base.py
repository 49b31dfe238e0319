"""Base class of all recipes, and the references of a recipe to other rows.

A reference is an id annotated with what it is of: ``FeatureRef``, ``SystemRef``, ``StationRef``, ``CloudRef``, ``MapRef``.
What a recipe needs is read off it by ``references``, for every kind alike.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Iterator, Mapping
from functools import cache
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Union

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from ..frames import Array
from ..units import Unit

Role = Literal["feature", "system", "dimension", "tolerance", "cloud", "map", "pin"]
Referable = Literal["feature", "system", "station", "cloud", "map", "row", "picture"]


class Needed(NamedTuple):
    """Something that a row rests on: a feature, a system, a station, a cloud or a map, by its id; what is no recipe names any
    row, or a picture."""

    what: Referable
    id: int


class Ref(NamedTuple):
    """Marks a field as an id of such a thing."""

    what: Referable


class Internal:
    """Marks a field that no form shows."""


Id = Annotated[int, Field(gt=0, lt=2**31)]
FeatureRef = Annotated[Id, Ref("feature")]
SystemRef = Annotated[Id, Ref("system")]
StationRef = Annotated[Id, Ref("station")]
CloudRef = Annotated[Id, Ref("cloud")]
MapRef = Annotated[Id, Ref("map")]
RowRef = Annotated[Id, Ref("row")]
PictureRef = Annotated[Id, Ref("picture")]

Vector = tuple[float, float, float]
NOWHERE = np.empty((0, 3))


def _has_length(value: Vector) -> Vector:
    if not any(value):
        raise ValueError("it has no length")
    return value


Direction = Annotated[Vector, AfterValidator(_has_length)]
Letter = Annotated[str, Field(pattern=r"^[A-Z]$")]
Length = Annotated[float, Field(gt=0, lt=1e9)]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Asked(Model):
    """A characteristic that matters, by its key, and the limits of its deviation: both, one or none.

    ``lower``, ``upper``: mm, or rad where the characteristic is an angle.
    """

    key: Annotated[str, Field(pattern=r"^[a-z_]{1,40}$")]
    lower: float | None = None
    upper: float | None = None

    @model_validator(mode="after")
    def _ordered(self):
        if self.lower is not None and self.upper is not None and self.upper < self.lower:
            raise ValueError("the upper limit lies below the lower one")
        return self


class RowRecipe(Model):
    """The recipe of a row. A subclass is a kind: see ``kinds``.

    ``kind``: its key, as stored; ``role``: whether it gives a feature, a coordinate system, a cloud, a map of deviations,
    a pin on that, or judges others; ``nodes``: how it is worked out, where not as all of its role.
    ``takes_hits``: a person measures it by hits; ``takes_light``: by lines of light;
    ``proposes``: it is to become another kind, which it proposes;
    ``carries_outlines``: what is touched in a plane may lie in it; ``ties_stations``: seen from two, it ties them;
    ``on_surface``: a place on a surface, of which several may be the targets of one datum;
    ``hits_stand_apart``: on purpose, round one place: what they leave is no form;
    ``in_network``: how stations stand rests on it, as a point that ties them or a ``known_length`` between two;
    ``answered``: fields that hold a person's answers, and what they are before: an answer is of the hits it was given for;
    ``found_here``: fields that tell what was found of one piece, which a plan of others does not have;
    ``rests_on_surfaces``: it is worked out with the part's CAD surfaces; ``typed``: a person can type all of it;
    ``takes_more``: how many hits it is measured by is free, and more of them tell more;
    ``practice_hits``: by so many its form is looked at (BS 7172:1989, from memory; of an arc common practice), 0: not known;
    ``is_table``: its numbers are many, of which none stands for the others.
    ``asked``: its characteristics that matter, the first shown on its line; none: all that the kind has,
    without limits.
    """

    kind: str
    role: ClassVar[Role]
    nodes: ClassVar[str] = ""
    takes_hits: ClassVar[bool] = False
    takes_light: ClassVar[bool] = False
    pulls_off: ClassVar[bool] = True  # how the tip goes away says something
    proposes: ClassVar[bool] = False
    carries_outlines: ClassVar[bool] = False
    ties_stations: ClassVar[bool] = False
    in_network: ClassVar[bool] = False
    on_surface: ClassVar[bool] = False
    hits_stand_apart: ClassVar[bool] = False
    answered: ClassVar[Mapping[str, Any]] = {}
    found_here: ClassVar[tuple[str, ...]] = ()
    rests_on_surfaces: ClassVar[bool] = False
    typed: ClassVar[bool] = True
    practice_hits: ClassVar[int] = 0
    takes_more: ClassVar[bool] = False
    is_table: ClassVar[bool] = False
    name: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=200)] = ""
    asked: Annotated[tuple[Asked, ...], Field(max_length=40)] = ()

    @model_validator(mode="after")
    def _asked_once(self):
        keys = [a.key for a in self.asked]
        if len(set(keys)) < len(keys):
            raise ValueError("a characteristic is asked twice")
        return self

    @classmethod
    def key(cls) -> str:
        """The kind's key."""
        return cls.model_fields["kind"].default

    @property
    def known_length(self) -> tuple[int, int, float, float] | None:
        """Two rows, the length between them (mm) and its standard uncertainty, where it is known beforehand."""
        return None

    @property
    def known_place(self) -> tuple[Array, float] | None:
        """Where it is (3,), mm, and the standard uncertainty of that, where it is known beforehand and ties stations."""
        return None

    @property
    def datum_letter(self) -> str:
        """The drawing's letter for it, where it is a datum."""
        return ""

    @property
    def wanted_hits(self) -> int:
        return 0

    @property
    def hits_of_plane(self) -> int:
        """How many of its hits touch the plane that it lies in, first of all."""
        return 0

    @property
    def way_held(self) -> str:
        """In which way it takes hits while the button is held; "" where it takes none."""
        return ""

    @property
    def cad_face(self) -> int | None:
        """The face of the part's CAD that it was picked on."""
        return None

    @property
    def on_map(self) -> int | None:
        """The map that it stands on."""
        return None

    @property
    def of_one_piece(self) -> bool:
        """It makes sense for the piece alone for which it was made."""
        return False

    @property
    def takes_by_cad(self) -> bool:
        """Of a scan it takes what the CAD tells to be its own, where the part is aligned."""
        return False

    @property
    def should_be(self) -> Any:
        """Its nominal shape in the part; None where it has none."""
        return None

    @property
    def stands_somewhere(self) -> bool:
        """Whether what is found of it is at one place: a center, or where a plane was touched."""
        return False

    @property
    def targets(self) -> Array | None:
        """Where in the part it is to be touched, (k, 3), in that order; None where that is free."""
        return None

    def aims_left(self, hits: int) -> Array:
        """(k, 3) where in the part more hits are wanted that somebody asked for at certain places, once it has so many hits."""
        return NOWHERE

    def height_over_nominal(self, points_part: Array, surfaces: Any = None) -> Array | None:
        """(n,) mm from its nominal surface into the air; None where it has none. ``surfaces``: the part's."""
        return None

    @property
    def zone(self) -> float | None:
        """How far (mm) each of the rows it rests on may lie from where it should be, where it judges that."""
        return None

    @property
    def ticks(self) -> tuple[Any, ...] | None:
        """The features that hold the part and their directions, if the recipe consists of nothing else; else None."""
        return None

    def also_held(self, feature: int, directions: tuple[Any, ...]) -> RowRecipe | None:
        """The recipe with one more feature that holds the part; None where what holds it is in a strict order, or nothing."""
        return None

    @property
    def other_orders(self) -> Iterator[RowRecipe]:
        """The same datums in every other order of precedence; none where they have none."""
        return iter(())

    @property
    def seen_from(self) -> int | None:
        """The system to which its own is compared, where one is named."""
        return None

    def in_other_terms(self) -> RowRecipe | None:
        """The recipe stated by radius instead of diameter, or the reverse; None if it has no such size."""
        return None

    def settled(self, turn: Vector) -> RowRecipe | None:
        """The recipe after a person chose one of several possible poses; None if there is only one.

        ``turn``: its rotation vector, part from world.
        """
        return None

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        """Keys and units of all characteristics that it may be asked; ``found``: its feature, where it has one."""
        return ()

    @classmethod
    def drawn(cls, path: str, texts: Mapping[str, str]) -> tuple[str, float]:
        """How a typed number stands for the stored one as the drawing says it: its name there, and the factor."""
        return "", 1.0

    def in_terms(self, terms: str) -> RowRecipe:
        """The same, told in such terms; itself where it has none."""
        return self

    @classmethod
    def usual_terms(cls) -> str:
        """The terms in which its drawing usually tells it, radius or diameter; "" where it has none."""
        return str(cls.model_fields["terms"].default) if "terms" in cls.model_fields else ""

    @classmethod
    def share_in(cls, key: str, terms: str) -> float:
        """Factor of a characteristic in the drawing's own terms: ½ for a diameter shown as a radius."""
        return 1.0

    def share_of(self, key: str) -> float:
        """The share of a characteristic's value that is shown, in the terms (radius or diameter) of this row."""
        return self.share_in(key, "")


@cache
def hints(model: type[BaseModel]) -> dict[str, Any]:
    """The annotations of a model's fields, with what they are marked with."""
    return typing.get_type_hints(model, include_extras=True)


@cache
def fields_that_refer(model: type[BaseModel]) -> tuple[tuple[str, Any], ...]:
    """The fields of a model in which something may be named, with their annotations."""
    return tuple((name, hint) for name, hint in hints(model).items() if name in model.model_fields and _names(hint))


def _names(annotation: Any) -> bool:
    """Something of this annotation may name a row or a station."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return bool(fields_that_refer(annotation))
    if typing.get_origin(annotation) is Annotated and any(isinstance(m, Ref) for m in annotation.__metadata__):
        return True
    return annotation is Any or any(_names(arm) for arm in typing.get_args(annotation))


def references(value: Any, annotation: Any = None) -> Iterator[Needed]:
    """Everything that a recipe, or a part of it, names."""
    if isinstance(value, BaseModel):
        for name, hint in fields_that_refer(type(value)):
            yield from references(getattr(value, name), hint)
        return
    origin = typing.get_origin(annotation)
    if origin is Annotated:
        marks = [m for m in annotation.__metadata__ if isinstance(m, Ref)]
        if marks and isinstance(value, int):
            yield Needed(marks[0].what, value)
        else:
            yield from references(value, typing.get_args(annotation)[0])
    elif origin in (Union, types.UnionType):
        for arm in typing.get_args(annotation):
            yield from references(value, arm)
    elif isinstance(value, tuple) and origin is tuple:
        arms = typing.get_args(annotation)
        for k, item in enumerate(value):
            yield from references(item, arms[0] if arms[-1] is ... else arms[k])


def needs_of(recipe: RowRecipe) -> tuple[Needed, ...]:
    """The dependencies of a row, each once, in the order of its recipe."""
    return tuple(dict.fromkeys(references(recipe)))
