"""People and signing in."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select
from werkzeug.security import check_password_hash, generate_password_hash

from ..core.errors import InputError, PlumbError
from ..store.database import transaction
from ..store.models import SignInAttempt, User
from .actor import ROLES, Actor

ATTEMPTS, WINDOW = 5, timedelta(minutes=10)
_UNKNOWN = generate_password_hash("nobody has this password")


def add_person(login: str, name: str, role: str, password: str) -> int:
    """Add a person; an existing login keeps what it has. Returns the id."""
    if role not in ROLES:
        raise InputError(f"There is no role “{role}”.", "Nothing was changed.", f"Choose one of {', '.join(ROLES)}.")
    with transaction() as session:
        found = session.scalar(select(User).where(User.login == login))
        if found is None:
            found = User(login=login, name=name, role=role, password_hash=generate_password_hash(password))
            session.add(found)
            session.flush()
        return found.id


def sign_in(login: str, password: str, address: str) -> Actor:
    """Check a sign-in. Raises InputError for a wrong one, PlumbError after too many."""
    login = login.strip().lower()[:60]
    with transaction() as session:
        since = datetime.now(UTC) - WINDOW
        failed = session.scalar(
            select(func.count())
            .select_from(SignInAttempt)
            .where(SignInAttempt.at > since, ~SignInAttempt.succeeded)
            .where((SignInAttempt.login == login) & (SignInAttempt.address == address[:60]))
        )
        if (failed or 0) >= ATTEMPTS:
            raise PlumbError(
                f"There were {failed} wrong sign-ins for this name.", "Nothing was changed.", "Wait ten minutes and try again."
            )
        person = session.scalar(select(User).where(User.login == login))
        good = check_password_hash(person.password_hash if person else _UNKNOWN, password) and person is not None
        session.add(SignInAttempt(login=login, address=address[:60], succeeded=good))
    if person is None or not good:
        raise InputError("The name or the password is wrong.", "You are not signed in.", "Type both again.")
    return Actor(person.id, person.name, person.role)


def person_by_id(user_id: int) -> Actor | None:
    with transaction() as session:
        person = session.get(User, user_id)
        return Actor(person.id, person.name, person.role) if person else None
