"""Options of the numba compilation, and removal of stale caches."""

from __future__ import annotations

from pathlib import Path
from typing import Any

COMPILED: dict[str, Any] = {"cache": True, "nogil": True, "error_model": "numpy"}


def forget_stale() -> None:
    """Throw away what was compiled before the latest change of any of these files.

    numba itself looks only at the file that a loop stands in, but these loops call one another.
    """
    here = Path(__file__).parent
    changed = max(source.stat().st_mtime for source in here.glob("*.py"))
    for kept in here.glob("__pycache__/*.nbi"):
        try:
            if kept.stat().st_mtime < changed:
                kept.unlink()
        except OSError:  # another process was quicker, or the folder is not ours
            continue


forget_stale()
