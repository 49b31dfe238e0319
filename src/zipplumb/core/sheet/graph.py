"""The incremental computation graph: nodes are evaluated in topological order, only where their key changed.

A node's key is the hash of what is its own and of the keys of what it needs. What has the same key as last
time is taken over as it is. A fault of any kind in one node becomes that node's ``Failed``; what needs it fails
with that reason, the others are evaluated.
"""

from __future__ import annotations

import gc
import logging
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..errors import PlumbError
from ..fingerprints import fingerprint

log = logging.getLogger(__name__)
Name = Hashable


class Node(NamedTuple):
    """``own``: names what is the node's own; ``work(of, needed)`` is given the values of what it needs, by name.

    ``heavy``: what ``work`` gives is only what is asked for; it is worked out elsewhere, and looked for under the key.
    """

    own: str
    needs: tuple[Name, ...]
    work: Callable[[Any, Mapping[Name, Any]], Any]
    of: Any = None
    heavy: bool = False


class Worked(NamedTuple):
    """A node's key and its value; ``own`` and ``used``: what it was worked out from, to see at once that it is the same."""

    key: str
    value: Any
    own: str
    used: tuple[Worked | None, ...]


@dataclass(frozen=True, eq=False)
class Failed:
    """Why there is no value: a sentence."""

    message: str


NONE: Mapping[Name, Worked] = {}
Shelf = Callable[[str, Any], tuple[str, Any]]  # of a heavy node's key and what it asks for: its key now, and its value
GONE = Failed("A row it rests on is gone, or is no feature. Choose another.")
ROUND = Failed("It rests on itself, through another row. Choose another row for it to rest on.")


def fault_words(error: Exception) -> str:
    """A sentence for any fault; what was not foreseen is logged."""
    if isinstance(error, PlumbError):
        return str(error)
    log.error("a fault in working it out", exc_info=error)
    what = type(error).__name__
    return f"It could not be worked out ({what}). All hits are kept. Look at its hits, or at what it rests on."


def work_out(
    nodes: Mapping[Name, Node],
    previous: Mapping[Name, Worked],
    others: Mapping[Name, Worked] = NONE,
    shelf: Shelf | None = None,
) -> dict[Name, Worked]:
    """All nodes worked out, those of the same key taken over from ``previous``; ``others``: what they may need beside.

    ``shelf``: has what heavy nodes ask for, or a word that it is not there yet; it is asked anew each time.
    """
    with _no_collecting():
        return _work_out(nodes, previous, others, shelf)


@contextmanager
def _no_collecting() -> Iterator[None]:
    """Thousands of values are made at once, and stay: the collector would look through them again and again."""
    if not gc.isenabled():
        yield
        return
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def _work_out(
    nodes: Mapping[Name, Node], previous: Mapping[Name, Worked], others: Mapping[Name, Worked], shelf: Shelf | None
) -> dict[Name, Worked]:
    done: dict[Name, Worked] = {}
    for name, node in nodes.items():
        if name in done:
            continue
        for needed in node.needs:
            if needed not in done and needed in nodes:
                break
        else:  # nearly always: what it needs came before it
            done[name] = _worked(node, done, previous.get(name), others, shelf)
            continue
        for each in _in_order(name, nodes, done):
            if each not in done:
                done[each] = _worked(nodes[each], done, previous.get(each), others, shelf)
    return done


def _worked(
    node: Node, done: Mapping[Name, Worked], before: Worked | None, others: Mapping[Name, Worked], shelf: Shelf | None
) -> Worked:
    own, needs = node.own, node.needs
    used = tuple([done[n] if n in done else others.get(n) for n in needs])
    if before is not None and before.own == own and len(before.used) == len(used) and not node.heavy:
        for was, now in zip(before.used, used, strict=True):
            if was is not now:
                break
        else:
            return before
    key = fingerprint(own, *(u.key if u is not None else "-" for u in used)) if needs else own
    if before is not None and before.key == key:
        return Worked(key, before.value, own, used)
    needed = {n: u.value if u is not None else GONE for n, u in zip(needs, used, strict=True)}
    try:
        value = node.work(node.of, needed)
        if node.heavy and shelf is not None:
            key, value = shelf(key, value)
    except Exception as error:  # a fault in one node is that node's
        value = Failed(fault_words(error))
    return Worked(key, value, own, used)


def _in_order(name: Name, nodes: Mapping[Name, Node], done: dict[Name, Worked]) -> Iterable[Name]:
    """A node's dependencies in topological order, the node last; nodes in a circle fail."""
    order: list[Name] = []
    under_way: dict[Name, None] = {name: None}
    ways = [(name, iter(nodes[name].needs))]
    while ways:
        at, left = ways[-1]
        for needed in left:
            if needed in under_way:
                circle = list(under_way)
                for each in circle[circle.index(needed) :]:
                    own = nodes[each].own
                    done[each] = Worked(fingerprint("round", own), ROUND, own, ())
            elif needed in nodes and needed not in done and needed not in order:
                under_way[needed] = None
                ways.append((needed, iter(nodes[needed].needs)))
                break
        else:
            ways.pop()
            del under_way[at]
            order.append(at)
    return order
