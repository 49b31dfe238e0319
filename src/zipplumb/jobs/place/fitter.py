"""The fitter's page: one detail, by a link that needs no account, shows nothing else, and can be withdrawn."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...store.database import stored, tell, transaction
from ...store.models import Detail, FitterLink, Job
from ..actor import Actor, record
from ..tokens import hash_of, new_token


def make_link(actor: Actor, job_id: int, detail_id: int) -> str:
    """A new link to a detail. Returns its secret, which is kept nowhere."""
    actor.must_change()
    token, hashed = new_token()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        detail = stored(session, Detail, detail_id)
        if detail.job_id != job_id or detail.removed_at is not None:
            raise InputError("That detail is not in this job any more.", "No link was made.", "Choose another.")
        link = FitterLink(detail_id=detail_id, token_hash=hashed)
        session.add(link)
        session.flush()
        record(session, actor, job_id, "make a fitter's link", detail=detail_id, link=link.id)
    return token


def withdraw(actor: Actor, job_id: int, detail_id: int) -> None:
    """All links to a detail end; open pages show so at once."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        if stored(session, Detail, detail_id).job_id != job_id:
            raise InputError("That detail is not in this job.", "Nothing was changed.", "Choose another.")
        standing = select(FitterLink).where(FitterLink.detail_id == detail_id, FitterLink.withdrawn_at.is_(None))
        for link in session.scalars(standing):
            link.withdrawn_at = datetime.now(UTC)
        record(session, actor, job_id, "withdraw a fitter's links", detail=detail_id)
        tell(session, job_id, "sheet")


def count_of(session: Session, detail_ids: list[int]) -> dict[int, int]:
    """The number of valid links, by detail."""
    query = select(FitterLink.detail_id).where(FitterLink.detail_id.in_(detail_ids), FitterLink.withdrawn_at.is_(None))
    return Counter(session.scalars(query))


def link_of(session: Session, token: str) -> FitterLink | None:
    """The link of a secret, while it stands."""
    hashed = hash_of(token)
    link = None if hashed is None else session.scalar(select(FitterLink).where(FitterLink.token_hash == hashed))
    return link if link is not None and detail_of(session, link.id) is not None else None


def detail_of(session: Session, link_id: int) -> Detail | None:
    """The detail of a fitter's link; None where the link has ended or the detail is removed."""
    link = session.get(FitterLink, link_id)
    if link is None or link.withdrawn_at is not None:
        return None
    detail = session.get(Detail, link.detail_id)
    there = detail is not None and detail.removed_at is None and stored(session, Job, detail.job_id).removed_at is None
    return detail if there else None
