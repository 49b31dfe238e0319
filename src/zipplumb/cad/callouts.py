"""What a model's file says of tolerances on its faces (ISO 10303-242, semantic), as data. Lengths in mm."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any


@dataclass(frozen=True)
class Callout:
    """A tolerance. ``kind``: the key of ours; ``datums``: primary first, each of one letter or of several that are one datum.

    ``condition``: of material on the feature, none, maximum or least; ``boundaries``: the same of each datum. ``round``: its
    zone is a cylinder or a sphere, and not between two planes.
    """

    kind: str
    zone_mm: float
    faces: tuple[int, ...]
    datums: tuple[tuple[str, ...], ...] = ()
    condition: str = "none"
    boundaries: tuple[str, ...] = ()
    name: str = ""
    round: bool = False


@dataclass(frozen=True)
class Lettered:
    """A datum feature."""

    letter: str
    faces: tuple[int, ...]


@dataclass(frozen=True)
class TargetPlace:
    """A datum target: one of the places that make a datum together (ISO 5459). ``normal``: out of the material."""

    letter: str
    number: int
    at: tuple[float, float, float]
    normal: tuple[float, float, float]
    faces: tuple[int, ...] = ()

    @property
    def name(self) -> str:
        return f"{self.letter}{self.number}"


@dataclass(frozen=True)
class Sized:
    """Limits of a diameter, by how much it may be below and above the nominal."""

    faces: tuple[int, ...]
    diameter_mm: float
    lower_mm: float
    upper_mm: float


@dataclass(frozen=True)
class Callouts:
    """``left``: what the file says and is not here, a sentence each."""

    tolerances: tuple[Callout, ...] = ()
    datums: tuple[Lettered, ...] = ()
    sizes: tuple[Sized, ...] = ()
    left: tuple[str, ...] = ()
    targets: tuple[TargetPlace, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.tolerances or self.datums or self.sizes or self.left or self.targets)

    def to_data(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_data(cls, data: Mapping[str, Any]) -> Callouts:
        def told(name: str, kind: Any) -> tuple[Any, ...]:
            return tuple(kind(**{key: _tuples(value) for key, value in each.items()}) for each in data.get(name, ()))

        return cls(
            told("tolerances", Callout), told("datums", Lettered), told("sizes", Sized), tuple(data.get("left", ())),
            told("targets", TargetPlace),
        )  # fmt: skip

    def to_json(self) -> str:
        return json.dumps(self.to_data())

    @classmethod
    def from_json(cls, text: str) -> Callouts:
        return cls.from_data(json.loads(text))


def _tuples(value: Any) -> Any:
    return tuple(map(_tuples, value)) if isinstance(value, list) else value
