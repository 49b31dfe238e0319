"""Which reader a file of points wants, by how it begins, whatever it is called."""

from __future__ import annotations

from pathlib import Path

from . import e57, ply, text
from .blocks import Opened, Reader, bad

NAMES = "E57, PLY or a list of text"
BEGINS: tuple[tuple[bytes, Reader], ...] = ((b"ASTM-E57", e57.opened), (b"ply", ply.opened))


def opened(path: Path, unit_mm: float) -> Opened:
    """Raises FileError where it is of no kind that is known, or damaged."""
    with path.open("rb") as file:
        begin = file.read(4096)
    if not begin:
        raise bad("The file is empty.", "Choose another one.")
    for mark, reader in BEGINS:
        if begin.startswith(mark):
            return reader(path, unit_mm)
    if b"\0" in begin:
        raise bad(f"It is neither {NAMES}.")
    return text.opened(path, unit_mm)
