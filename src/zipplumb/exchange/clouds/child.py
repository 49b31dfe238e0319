"""What a child process does to read a file of points, within its limits: ``python -m zipplumb.exchange.clouds.child``.

It tells its steps as lines of JSON, and writes what it read: lines of light, for who keeps them.
"""

from __future__ import annotations

import json
import resource
import sys
from pathlib import Path

import numpy as np

from ...core.errors import FileError
from .blocks import KEPT, MOST_POINTS
from .formats import opened
from .lines import SeenFrom, lines_of

MEMORY_MB, LARGEST_FILE_MB = 6000, 4000


def tell(**what) -> None:
    print(json.dumps(what), flush=True)


def limit(seconds: int) -> None:
    megabyte = 2**20
    for what, most in (
        (resource.RLIMIT_AS, MEMORY_MB * megabyte), (resource.RLIMIT_FSIZE, LARGEST_FILE_MB * megabyte),
        (resource.RLIMIT_CPU, seconds), (resource.RLIMIT_CORE, 0),
    ):  # fmt: skip
        resource.setrlimit(what, (most, most))


def read(source: Path, target: Path, unit_mm: float, seen_from: SeenFrom, all_round: bool) -> int:
    """Returns how many points were read. Raises FileError."""
    if all_round:
        sums, count = np.zeros(3), 0
        for block in opened(source, unit_mm).blocks:
            sums, count = sums + block.points.sum(axis=0), count + len(block)
        seen_from = SeenFrom(middle=tuple((sums / max(count, 1)).tolist()))
    file, read, first = opened(source, unit_mm), 0, None
    if file.points > MOST_POINTS:
        raise _too_many()
    with target.open("wb") as points, Path(f"{target}.lines").open("wb") as lines:
        for block in file.blocks:
            if not len(block):
                continue
            first = block.points[0] if first is None else first
            read += len(block)
            if read > MOST_POINTS:
                raise _too_many()
            found = lines_of(block, seen_from, first)
            points.write(found.points.tobytes())
            lines.write(np.column_stack([found.places, found.counts]).astype("<f8").tobytes())
            tell(share=read / file.points if file.points else 0.0, points=read)
    if not read:
        raise FileError("The file has no points in it.", KEPT, "Export it again.")
    return read


def _too_many() -> FileError:
    return FileError(f"The file has more than {MOST_POINTS // 10**6} million points.", KEPT, "Export it thinned.")


def main(source: str, target: str, settings: str) -> int:
    told = json.loads(settings)
    limit(told["seconds"])
    seen_from = SeenFrom(tuple(told["place"]) if told["place"] else None)
    try:
        count = read(Path(source), Path(target), told["unit_mm"], seen_from, told["all_round"])
    except FileError as error:
        tell(error=str(error))
        return 2
    except MemoryError:
        tell(error=f"It needs more than {MEMORY_MB} MB of memory. {KEPT} Export it thinned.")
        return 2
    tell(share=1.0, points=count)
    return 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
