"""The table of plans that prove."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Double, ForeignKey, String, Text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from .models import Base, made_at


class ProofPlan(Base):
    """A plan that proves, as it was asked for a job; ``state``: making, ready, taken or failed, with a ``message``.

    ``asked``: with which instrument, from where, and which share of its tolerance a part uses; ``share``: how far it is;
    ``found``: see ``jobs/proving/plans``.
    """

    __tablename__ = "proof_plans"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    asked: Mapped[dict[str, Any]] = mapped_column(JSONB)
    state: Mapped[str] = mapped_column(String(10), server_default="making")
    message: Mapped[str] = mapped_column(Text, server_default="")
    share: Mapped[float] = mapped_column(Double, server_default="0")
    found: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    at: Mapped[datetime] = made_at()
