"""A part's CAD file as it came, kept in pieces: no process that takes it in or hands it on ever has it whole."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from ...store.models import PartFile

PIECE_BYTES = 1024 * 1024


def keep(session: Session, part_id: int, file: IO[bytes]) -> tuple[int, str]:
    """Keep a file. Returns how long it is, and its SHA-256."""
    size, digest, number = 0, hashlib.sha256(), 0
    while piece := file.read(PIECE_BYTES):
        session.execute(insert(PartFile), {"part_id": part_id, "number": number, "piece": piece})
        digest.update(piece)
        size, number = size + len(piece), number + 1
    return size, digest.hexdigest()


def write_to(session: Session, part_id: int, path: Path) -> None:
    """Write it out as it came."""
    with path.open("wb") as out:
        for piece in pieces(session, part_id):
            out.write(piece)


def pieces(session: Session, part_id: int) -> Iterator[bytes]:
    """In order."""
    numbers = session.scalars(select(PartFile.number).where(PartFile.part_id == part_id).order_by(PartFile.number)).all()
    for number in numbers:
        yield session.scalars(select(PartFile.piece).where(PartFile.part_id == part_id, PartFile.number == number)).one()
