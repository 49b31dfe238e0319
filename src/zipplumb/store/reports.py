"""Tables of reports: what stands in them, their pictures, the files that were made, and who may fetch these."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, LargeBinary, String, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, deferred, mapped_column

from .models import Base, made_at


class Picture(Base):
    """``view``: what is seen, from where, with which tags; ``png``: of one that was kept as it was seen, or of a logo."""

    __tablename__ = "pictures"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    what: Mapped[str] = mapped_column(String(10), server_default="view")
    view: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    png: Mapped[bytes | None] = deferred(mapped_column(LargeBinary))
    caption: Mapped[str] = mapped_column(Text, server_default="")
    at: Mapped[datetime] = made_at()


class Document(Base):
    """A report of a job by its name: its parts in their order. ``decimals``, ``mark``: see ``core.units.NumberStyle``."""

    __tablename__ = "documents"
    __table_args__ = (UniqueConstraint("job_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    name: Mapped[str]
    parts: Mapped[list[Any]]
    paper: Mapped[str] = mapped_column(String(10), server_default="A4")
    decimals: Mapped[int | None]
    mark: Mapped[str] = mapped_column(String(1), server_default=".")
    at: Mapped[datetime] = made_at()


class Layout(Base):
    """Parts of a report that are kept for other jobs."""

    __tablename__ = "layouts"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Text, unique=True)
    parts: Mapped[list[Any]]
    paper: Mapped[str] = mapped_column(String(10), server_default="A4")
    decimals: Mapped[int | None]
    mark: Mapped[str] = mapped_column(String(1), server_default=".")
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    at: Mapped[datetime] = made_at()


class Report(Base):
    """A file that was made of a document. ``standing``: what it rests on, by which is told what has changed since."""

    __tablename__ = "reports"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    kind: Mapped[str] = mapped_column(String(5))
    state: Mapped[str] = mapped_column(String(10), server_default="making")
    message: Mapped[str] = mapped_column(Text, server_default="")
    rows: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    document_id: Mapped[int | None] = mapped_column(ForeignKey("documents.id", ondelete="SET NULL"))
    number: Mapped[int] = mapped_column(server_default="0")
    fingerprint: Mapped[str] = mapped_column(String(20), server_default="")
    standing: Mapped[dict[str, Any]] = deferred(mapped_column(JSONB, server_default="{}"))
    data: Mapped[bytes | None] = deferred(mapped_column(LargeBinary))
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    at: Mapped[datetime] = made_at()


class OfficeLink(Base):
    """A link by which programs without an account read a job's reports; its secret is kept as a hash."""

    __tablename__ = "office_links"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    name: Mapped[str]
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    created_at: Mapped[datetime] = made_at()
    withdrawn_at: Mapped[datetime | None]
