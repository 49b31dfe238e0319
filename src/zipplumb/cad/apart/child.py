"""What a child process does to read a CAD file (see ``ready``), within its limits, and how it tells its steps."""

from __future__ import annotations

import json
import os
import resource
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path

from ..formats import Unreadable
from ..spline_pack import pack_splines

LARGEST_FILE_MB, MORE_THREADS = 4000, 64


def tell(steps: int, **what) -> None:
    """A step, as a line of JSON, to whoever waits at the other end of a pipe; nobody may wait any more."""
    with suppress(BrokenPipeError):
        os.write(steps, (json.dumps(what) + "\n").encode())


def limit(memory_mb: int, seconds: int) -> None:
    for what, most in (
        (resource.RLIMIT_AS, memory_mb * 2**20),
        (resource.RLIMIT_CPU, 4 * seconds),  # its threads count together; the parent minds the clock
        (resource.RLIMIT_FSIZE, LARGEST_FILE_MB * 2**20),
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_NPROC, _threads_of_ours() + MORE_THREADS),
    ):
        resource.setrlimit(what, (most, most))


def _threads_of_ours() -> int:
    """The limit of processes counts everything of this user, threads too."""
    count = 0
    for folder in Path("/proc").iterdir():
        try:
            if folder.name.isdigit() and folder.stat().st_uid == os.getuid():
                count += len(os.listdir(folder / "task"))
        except OSError:
            continue
    return count


def main(tell: Callable[..., None], source: str, target: str, module: str, units: str) -> int:
    try:
        read = import_module(f"..library.{module}", __package__).read
        model = read(Path(source), lambda share, words: tell(share=share, words=words), units)
    except Unreadable as error:
        tell(error=str(error))
        return 2
    except MemoryError:
        tell(error=f"It needs more than {resource.getrlimit(resource.RLIMIT_AS)[0] // 2**20} MB of memory")
        return 2
    Path(target).write_bytes(model.pack())
    Path(f"{target}.splines").write_bytes(pack_splines(model.splines))
    Path(f"{target}.callouts").write_text(model.callouts.to_json())
    Path(f"{target}.edges").write_text(json.dumps([vars(edge) for edge in model.edges]))
    tell(share=1.0, words="Read")
    return 0
