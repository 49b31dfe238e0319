"""The process in which a CAD file is read: ``python -m zipplumb.cad.child IN OUT MEMORY_MB SECONDS MODULE UNITS``.

It may crash or run out without harm to anyone else, and ends with the process that began it. It
prints one JSON line per step.
"""

from __future__ import annotations

import json
import os
import resource
import sys
import threading
from dataclasses import asdict
from importlib import import_module
from pathlib import Path

LARGEST_FILE_MB, MORE_THREADS = 4000, 64


def _tell(**what) -> None:
    os.write(_CHANNEL, (json.dumps(what) + "\n").encode())


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


def end_with_parent() -> None:
    """Our standard input is held open by who began us: it ends when that one ends, however."""
    os.read(0, 1)
    os._exit(3)


def main(source: str, target: str, memory_mb: str, seconds: str, module: str, units: str) -> int:
    threading.Thread(target=end_with_parent, daemon=True).start()
    limit(int(memory_mb), int(seconds))
    from .formats import Unreadable
    from .spline_pack import pack_splines

    try:
        read = import_module(f"{__package__}.{module}").read
        model = read(Path(source), lambda share, words: _tell(share=share, words=words), units)
    except Unreadable as error:
        _tell(error=str(error))
        return 2
    except MemoryError:
        _tell(error=f"It needs more than {memory_mb} MB of memory")
        return 2
    Path(target).write_bytes(model.pack())
    Path(f"{target}.splines").write_bytes(pack_splines(model.splines))
    Path(f"{target}.callouts").write_text(model.callouts.to_json())
    Path(f"{target}.edges").write_text(json.dumps([asdict(edge) for edge in model.edges]))
    _tell(share=1.0, words="Read")
    return 0


if __name__ == "__main__":
    # the library writes its own messages to standard output: keep a private way to our parent
    _CHANNEL = os.dup(1)
    os.dup2(2, 1)
    # no way out through the library's own threads and finalisers: what was to be written is written
    _CODE = main(*sys.argv[1:7])
    os._exit(_CODE)
