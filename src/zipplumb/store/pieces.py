"""Tables of jobs of several pieces: the plan that they share, and what was found of each."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, String
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, deferred, mapped_column

from .models import Base, made_at


class Plan(Base):
    """The plan of a job, as it was at some time; it is never changed, a later one takes its place.

    ``job_id``: of the job's first piece; ``piece_id``: where it was made. ``told``: how results are told and decided;
    ``rows``: key and recipe of each, in order, where keys stand for the rows that a recipe names; ``left``: names of rows that
    are of that piece alone.
    """

    __tablename__ = "plans"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    piece_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    told: Mapped[dict[str, Any]] = mapped_column(JSONB)
    rows: Mapped[list[Any]] = deferred(mapped_column(JSONB))
    left: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    at: Mapped[datetime] = made_at()


class Outcome(Base):
    """What was found of a piece, so that it need not be worked out when many are looked at.

    ``edition``: of what it rests on, "" before it was worked out; ``asked_at``: since when that is asked for;
    ``out``: how many rows are out; ``words``: how many rows stand how, by word; ``rows``: see ``jobs/outcomes``.
    """

    __tablename__ = "outcomes"
    piece_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), primary_key=True)
    edition: Mapped[str] = mapped_column(String(40), server_default="")
    asked_at: Mapped[datetime | None]
    out: Mapped[int] = mapped_column(server_default="0")
    words: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    rows: Mapped[list[Any]] = deferred(mapped_column(JSONB, server_default="[]"))
    at: Mapped[datetime] = made_at()
