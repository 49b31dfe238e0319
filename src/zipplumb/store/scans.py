"""Tables of what is worked out of scans, and of files of scanned points."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Double, ForeignKey, LargeBinary, String, Text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, deferred, mapped_column

from .models import Base, made_at


class Cloud(Base):
    """What is worked out of a scan, under the key of its node; ``state``: making, ready or failed, with a ``message``.

    ``what``: its points, or those of its rows; ``given``: these, packed; ``share``: how far it is.
    """

    __tablename__ = "clouds"
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(String(40), unique=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    row_id: Mapped[int] = mapped_column(ForeignKey("rows.id"))
    what: Mapped[str] = mapped_column(String(10), server_default="points")
    state: Mapped[str] = mapped_column(String(10), server_default="making")
    message: Mapped[str] = mapped_column(Text, server_default="")
    share: Mapped[float] = mapped_column(Double, server_default="0")
    given: Mapped[bytes | None] = deferred(mapped_column(LargeBinary))
    at: Mapped[datetime] = made_at()


class PointFile(Base):
    """A file of scanned points that is being read for a job, or could not be; what was read is a row's.

    ``state``: reading, read or failed, with ``words``; ``asked``: its unit, from where it was seen, how sure a point is.
    """

    __tablename__ = "point_files"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    user_id: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    station_id: Mapped[int | None] = mapped_column(ForeignKey("stations.id"))
    row_id: Mapped[int | None] = mapped_column(ForeignKey("rows.id"))
    name: Mapped[str]
    asked: Mapped[dict[str, Any]] = mapped_column(JSONB)
    state: Mapped[str] = mapped_column(String(10), server_default="reading")
    share: Mapped[float] = mapped_column(Double, server_default="0")
    words: Mapped[str] = mapped_column(Text, server_default="")
    at: Mapped[datetime] = made_at()


class PointFilePiece(Base):
    """A piece of such a file, as it came, until it is read."""

    __tablename__ = "point_file_pieces"
    file_id: Mapped[int] = mapped_column(ForeignKey("point_files.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    piece: Mapped[bytes] = mapped_column(LargeBinary)
