"""Links by which an office's own programs read a job's reports: without an account, reading only, until they are withdrawn."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ...store.reports import OfficeLink
from ..actor import Actor, record
from ..tokens import hash_of, new_token

MOST_LINKS, LONGEST_NAME = 20, 60


def make_link(actor: Actor, job_id: int, name: str) -> str:
    """A link to the reports of a job, for somebody. Returns its secret, which is kept nowhere. Raises InputError."""
    actor.must_change()
    name = " ".join(name.split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise InputError(f"Whom it is for is 1 to {LONGEST_NAME} letters.", "No link was made.", "Type it.")
    token, hashed = new_token()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        standing = OfficeLink.job_id == job_id, OfficeLink.withdrawn_at.is_(None)
        if (session.scalar(select(func.count()).where(*standing)) or 0) >= MOST_LINKS:
            raise InputError(f"A job has up to {MOST_LINKS} such links.", "No link was made.", "Withdraw one first.")
        session.add(OfficeLink(job_id=job_id, name=name, token_hash=hashed, by=actor.id))
        record(session, actor, job_id, "make an office's link", name=name)
        tell(session, job_id, "report")
    return token


def withdraw(actor: Actor, job_id: int, link_id: int) -> None:
    """It ends at once."""
    actor.must_change()
    with transaction() as session:
        link = session.get(OfficeLink, link_id)
        if link is None or link.job_id != job_id:
            raise InputError("That link is not of this job.", "Nothing was changed.", "Choose another.")
        link.withdrawn_at = link.withdrawn_at or datetime.now(UTC)
        record(session, actor, job_id, "withdraw an office's link", name=link.name)
        tell(session, job_id, "report")


def links_of(session: Session, job_id: int) -> list[OfficeLink]:
    """Those that stand."""
    mine = OfficeLink.job_id == job_id, OfficeLink.withdrawn_at.is_(None)
    return list(session.scalars(select(OfficeLink).where(*mine).order_by(OfficeLink.id)))


def job_of(session: Session, token: str) -> int | None:
    """The job whose reports a secret opens, while its link stands."""
    hashed = hash_of(token)
    if hashed is None:
        return None
    return session.scalar(
        select(OfficeLink.job_id)
        .join(Job, Job.id == OfficeLink.job_id)
        .where(OfficeLink.token_hash == hashed, OfficeLink.withdrawn_at.is_(None), Job.removed_at.is_(None))
    )
