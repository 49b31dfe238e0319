"""The process in which a CAD file is read: ``python -m zipplumb.cad.child IN OUT MEMORY_MB``.

It may crash or run out without harm to anyone else. It prints one JSON line per step.
"""

from __future__ import annotations

import json
import os
import resource
import sys
from pathlib import Path


def _tell(**what) -> None:
    os.write(_CHANNEL, (json.dumps(what) + "\n").encode())


def main(source: str, target: str, memory_mb: str) -> int:
    limit = int(memory_mb) * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from .occt import Unreadable, read

    try:
        model = read(Path(source), lambda share, words: _tell(share=share, words=words))
    except Unreadable as error:
        _tell(error=str(error))
        return 2
    except MemoryError:
        _tell(error=f"It needs more than {memory_mb} MB of memory")
        return 2
    Path(target).write_bytes(model.pack())
    _tell(share=1.0, words="Read")
    return 0


if __name__ == "__main__":
    # the library writes its own messages to standard output: keep a private way to our parent
    _CHANNEL = os.dup(1)
    os.dup2(2, 1)
    sys.exit(main(*sys.argv[1:4]))
