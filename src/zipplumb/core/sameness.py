"""Many values by key, of which a few are replaced again and again."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping
from typing import Any, TypeVar

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")
LAYER = 200  # replaced values, until all are written out anew


class Layered(Mapping[K, V]):
    """A mapping that never changes. Another is made from it by replacing some values, at the cost of those alone.

    Thousands of results are handed on at every hit, of which one has changed: neither are they copied, nor is each
    looked at to learn which.
    """

    __slots__ = ("_base", "_over")

    def __init__(self, base: Mapping[K, V]):
        self._base = dict(base)
        self._over: dict[K, V] = {}

    @classmethod
    def of(cls, mapping: Mapping[K, V]) -> Layered[K, V]:
        """Itself, where it is one."""
        return mapping if isinstance(mapping, cls) else cls(mapping)

    def __getitem__(self, key: K) -> V:
        return self._over[key] if key in self._over else self._base[key]

    def get(self, key: K, default: Any = None) -> Any:
        return self._over[key] if key in self._over else self._base.get(key, default)

    def __contains__(self, key: object) -> bool:
        return key in self._base

    def __iter__(self) -> Iterator[K]:
        return iter(self._base)

    def __len__(self) -> int:
        return len(self._base)

    def replaced(self, new: Mapping[K, V]) -> Layered[K, V]:
        """With these values; keys that are new come last."""
        if not new:
            return self
        over = {**self._over, **new}
        if len(over) > LAYER or any(key not in self._base for key in new):
            return Layered(self._base | over)
        found = object.__new__(Layered)
        found._base, found._over = self._base, over
        return found

    def differing(self, before: Layered[K, V]) -> list[K]:
        """Keys under which the two do not have the very same object, in no order."""
        if self._base is before._base:
            asked = self._over.keys() | before._over.keys()
            return [key for key in asked if self[key] is not before[key]]
        nothing = object()
        gone = [key for key in before if key not in self._base]
        return gone + [key for key in self if self[key] is not before.get(key, nothing)]
