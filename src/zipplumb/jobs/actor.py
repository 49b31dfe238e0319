"""Who is acting, and the record of what was changed."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from ..core.errors import NotAllowed
from ..store.models import Change

ROLES = ("technician", "reviewer", "administrator")


@dataclass(frozen=True)
class Actor:
    """A signed-in person; ``id`` None is the instrument itself. ``single_keys``: letters pressed alone act."""

    id: int | None
    name: str
    role: str
    single_keys: bool = True

    @property
    def may_change(self) -> bool:
        return self.role in ("technician", "administrator")

    def must_change(self) -> None:
        if not self.may_change:
            raise NotAllowed(
                "A reviewer can read everything and change nothing.", "Nothing was changed.", "Ask a technician to do it."
            )


INSTRUMENT = Actor(None, "the instrument", "technician")


def record(session: Session, actor: Actor, job_id: int | None, act: str, **detail) -> None:
    """Keep who did what; part of the same transaction as the change itself."""
    session.add(Change(user_id=actor.id, job_id=job_id, act=act, detail=detail))
