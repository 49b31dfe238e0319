"""What the readers of point files give, whatever the format: blocks of points, in mm."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...core.errors import FileError

Array = NDArray[np.float64]
Progress = Callable[[float], None]
BLOCK = 500_000  # points read at once
MOST_POINTS = 20_000_000
KEPT = "Nothing of it was kept."


@dataclass(frozen=True, eq=False)
class Block:
    """Some points of a file.

    Attributes
    ----------
    points : (n, 3) mm, in the file's own coordinate system
    brightness : (n,) 0 to 1, or None where none is told
    normals : (n, 3) out of the surface, of any length, or None
    scanner : (3,) mm, from where they were seen, or None
    """

    points: Array
    brightness: NDArray | None = None
    normals: Array | None = None
    scanner: Array | None = None

    def __len__(self) -> int:
        return len(self.points)


@dataclass(frozen=True)
class Opened:
    """A file whose head was read: how many ``points`` it says that it has (0: it does not say), and its ``blocks``."""

    points: int
    blocks: Iterator[Block]


Reader = Callable[[Path, float], Opened]  # the file, and mm of its unit; 0: as the file says


def bad(what: str, do: str = "Export it again, as E57, PLY or a list of text.") -> FileError:
    """A file that cannot be read."""
    return FileError(what, KEPT, do)


def must_say_unit(unit_mm: float) -> None:
    """Raises FileError where nobody says in which unit a file of a kind without one is."""
    if not unit_mm:
        raise bad("Such a file does not say in which unit its lengths are.", "Choose mm, in or m, and send it again.")


def in_unit(values: NDArray) -> NDArray[np.float32]:
    """Brightness (n,) as it is usually kept, 0 to 1, 0 to 255 or 0 to 65,535, or about zero, as 0 to 1."""
    low, high = float(np.min(values, initial=0)), float(np.max(values, initial=0))
    if low < 0:
        values, high = values - low, high - low
    most = next((most for most in (1.0, 255.0, 65535.0) if high <= most), high)
    return (values / most).astype(np.float32)
