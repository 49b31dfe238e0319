"""Reading a file of points in a process of its own, with limits: a damaged file may crash a library, and harms nobody."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...core.errors import FileError
from .blocks import KEPT

LEAST_S, S_PER_MB = 120, 2  # of processor, many times what files take
TOGETHER = 65_536  # points of one piece at most: a mebibyte
POINT_BYTES = 16
Seen = Literal["file", "place", "round"]


@dataclass(frozen=True)
class Asked:
    """``unit_mm``: mm of the file's unit, where it has none; ``seen``: from where, as the file says, from a ``place`` (mm), or
    from all round the points' middle."""

    unit_mm: float
    seen: Seen = "file"
    place: tuple[float, float, float] | None = None


@dataclass(frozen=True, eq=False)
class Piece:
    """Some lines: ``places`` (m, 3) from which they were seen, ``counts`` (m,) of points, and these packed."""

    places: NDArray[np.float64]
    counts: NDArray[np.int64]
    points: bytes


def read_points(path: Path, target: Path, asked: Asked, progress: Callable[[float, int], None]) -> None:
    """Read a file into another (see ``pieces_of``). ``progress``: told the share, 0 where nobody knows, and the points so far.

    Raises
    ------
    FileError
        What is wrong with it.
    """
    seconds = int(LEAST_S + S_PER_MB * path.stat().st_size / 2**20)
    settings = {"unit_mm": asked.unit_mm, "place": asked.place, "all_round": asked.seen == "round", "seconds": seconds}
    command = [sys.executable, "-m", f"{__package__}.child", str(path), str(target), json.dumps(settings)]
    environment = {"HOME": str(target.parent), "PATH": os.environ.get("PATH", ""), "OPENBLAS_NUM_THREADS": "1"}
    said = ""
    with subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=environment
    ) as child:
        assert child.stdout is not None
        try:
            for line in child.stdout:
                told = json.loads(line)
                said = told.get("error", said)
                if "share" in told:
                    progress(told["share"], told["points"])
        except BaseException:
            child.kill()
            raise
    if child.returncode:
        raise FileError(said or f"Reading the file ended the reader. {KEPT}", "", "" if said else "Export it again.")


def pieces_of(target: Path) -> Iterator[Piece]:
    """What was read, in order, a mebibyte of points at a time."""
    lines = np.fromfile(f"{target}.lines", "<f8").reshape(-1, 4)
    places, counts = lines[:, :3], lines[:, 3].astype(np.int64)
    ends = np.cumsum(counts)
    with target.open("rb") as points:
        first = 0
        while first < len(counts):
            begun = ends[first] - counts[first]
            last = max(int(np.searchsorted(ends, begun + TOGETHER, "right")), first + 1)
            some = slice(first, last)
            yield Piece(places[some], counts[some], points.read(int(counts[some].sum()) * POINT_BYTES))
            first = last
