"""A file as it came, kept in pieces: no process that takes it in or hands it on ever has it whole."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from ..store.models import PartFile
from ..store.scans import PointFilePiece

PIECE_BYTES = 1024 * 1024


@dataclass(frozen=True)
class Pieces:
    """Those of one table; ``whose``: the name of the column that tells what they are of."""

    table: Any
    whose: str

    def keep(self, session: Session, owner: int, file: IO[bytes]) -> tuple[int, str]:
        """Keep a file. Returns how long it is, and its SHA-256."""
        size, digest, number = 0, hashlib.sha256(), 0
        while piece := file.read(PIECE_BYTES):
            session.execute(insert(self.table), {self.whose: owner, "number": number, "piece": piece})
            digest.update(piece)
            size, number = size + len(piece), number + 1
        return size, digest.hexdigest()

    def write_to(self, session: Session, owner: int, path: Path) -> None:
        """Write it out as it came."""
        with path.open("wb") as out:
            for piece in self.of(session, owner):
                out.write(piece)

    def of(self, session: Session, owner: int) -> Iterator[bytes]:
        """In order."""
        table, mine = self.table, getattr(self.table, self.whose) == owner
        for number in session.scalars(select(table.number).where(mine).order_by(table.number)).all():
            yield session.scalars(select(table.piece).where(mine, table.number == number)).one()

    def forget(self, session: Session, owner: int) -> None:
        session.execute(delete(self.table).where(getattr(self.table, self.whose) == owner))


OF_PARTS, OF_POINTS = Pieces(PartFile, "part_id"), Pieces(PointFilePiece, "file_id")
