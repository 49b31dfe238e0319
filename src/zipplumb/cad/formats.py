"""The formats that parts come in: how each is known, and which module reads it in the child process."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePath


class Unreadable(Exception):
    """A file is not what it should be; the message is one sentence without its end."""


@dataclass(frozen=True)
class Format:
    """``looks``: (first bytes, suffix) -> it is of this format; ``whole``: (last bytes) -> its end is there.

    ``has_units``: the file says its unit of length; else a person does. ``module``: in ``library``, with
    ``read(path, progress, units)``.
    """

    name: str
    module: str
    looks: Callable[[bytes, str], bool]
    whole: Callable[[bytes], bool] = lambda tail: True
    has_units: bool = True


def _is_stl(head: bytes, suffix: str) -> bool:
    return suffix == ".stl"


def _is_iges(head: bytes, suffix: str) -> bool:
    """Lines of 80, the first ones of the start section (IGES 5.3, 2.2.4)."""
    return re.match(rb"[^\r\n]{72}S *0*1\s*[\r\n]", head) is not None


FORMATS = (
    Format("STEP", "step", lambda head, _: b"ISO-10303-21" in head, lambda tail: b"END-ISO-10303-21" in tail),
    Format("IGES", "iges", _is_iges, lambda tail: re.search(rb"T *0*1[\s\0\x1a]*$", tail) is not None),
    Format("PLY", "mesh", lambda head, _: head.startswith(b"ply"), has_units=False),
    Format("STL", "mesh", _is_stl, has_units=False),
    Format("OBJ", "mesh", lambda head, suffix: suffix == ".obj", has_units=False),
)
NAMES = ", ".join(f.name for f in FORMATS[:-1]) + f" or {FORMATS[-1].name}"


def format_of(path: Path, called: str) -> Format | None:
    """What a file is, by its first bytes and, where these say nothing, by the end of its name."""
    with path.open("rb") as file:
        head = file.read(4096)
    return next((f for f in FORMATS if f.looks(head, PurePath(called).suffix.lower())), None)
