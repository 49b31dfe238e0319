"""Folders for customers' files while they are read or written, and what is left of those whose process was killed."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PREFIX = "zipplumb-"


@contextmanager
def scratch() -> Iterator[Path]:
    """A folder of this process, which goes with what is in it."""
    with tempfile.TemporaryDirectory(prefix=f"{PREFIX}{os.getpid()}-") as folder:
        yield Path(folder)


def sweep() -> int:
    """Remove the folders of processes of this machine that are no more; how many there were."""
    gone = 0
    for folder in Path(tempfile.gettempdir()).glob(f"{PREFIX}*-*"):
        owner = folder.name.removeprefix(PREFIX).split("-")[0]
        if owner.isdigit() and folder.is_dir() and folder.stat().st_uid == os.getuid() and not _runs(int(owner)):
            shutil.rmtree(folder, ignore_errors=True)
            gone += 1
    return gone


def _runs(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
