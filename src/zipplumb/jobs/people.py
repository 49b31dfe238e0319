"""People, their passwords and their sessions."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from functools import cache

from sqlalchemy import bindparam, func, select, text, update
from sqlalchemy.orm import Session
from werkzeug.security import check_password_hash, generate_password_hash

from ..core.errors import InputError, PlumbError
from ..store.database import stored, transaction
from ..store.models import SignedIn, SignInAttempt, User
from .actor import ROLES, Actor, record

ATTEMPTS, FROM_ANYWHERE, WINDOW = 5, 30, timedelta(minutes=10)
LEAST_LETTERS, MOST_LETTERS = 10, 200
SESSION_DAYS = 30
METHOD = "scrypt"  # slow on purpose
NOTHING = "Nothing was changed."


# ---- who there is ----------------------------------------------------------------------------


def add_person(login: str, name: str, role: str, password: str, by: Actor | None = None) -> int:
    """Add a person; an existing login keeps what it has. Returns the id."""
    login, name = _login(login), _name(name)
    with transaction() as session:
        found = session.scalar(select(User).where(User.login == login))
        if found is not None and by is not None:
            raise InputError(f"There is a person “{login}” already.", NOTHING, "Choose another sign-in name.")
        if found is None:
            found = User(login=login, name=name, role=_role(role), password_hash=_hash(password))
            session.add(found)
            session.flush()
            record(session, by or Actor(None, "", "administrator"), None, "add person", person=found.id, login=login, role=role)
        return found.id


def people() -> list[User]:
    with transaction() as session:
        return list(session.scalars(select(User).order_by(User.login)))


def change_person(by: Actor, user_id: int, name: str, role: str, active: bool) -> None:
    """Name, role, and whether somebody may sign in. One administrator stays."""
    with transaction() as session:
        person = stored(session, User, user_id, lock=True)
        before = {"name": person.name, "role": person.role, "active": person.active}
        person.name, person.role, person.active = _name(name), _role(role), active
        session.flush()
        left = select(func.count()).select_from(User).where(User.role == "administrator", User.active)
        if not session.scalar(left):
            raise InputError("Somebody has to be administrator.", NOTHING, "Make another person one first.")
        if not active:
            _end_sessions(session, user_id)
        record(session, by, None, "change person", person=user_id, before=before,
               after={"name": person.name, "role": person.role, "active": active})  # fmt: skip


def _login(text_: str) -> str:
    login = text_.strip().lower()
    if not (login.isascii() and login.replace("-", "").replace(".", "").isalnum() and len(login) <= 60):
        raise InputError("A sign-in name is letters, digits, points and dashes.", NOTHING, "Choose such a one.")
    return login


def _name(text_: str) -> str:
    name = text_.strip()
    if not name or len(name) > 80 or not name.isprintable():
        raise InputError("A person needs a name of at most 80 letters.", NOTHING, "Type it.")
    return name


def _role(role: str) -> str:
    if role not in ROLES:
        raise InputError(f"There is no role “{role[:20]}”.", NOTHING, f"Choose one of {', '.join(ROLES)}.")
    return role


# ---- passwords -------------------------------------------------------------------------------


def _hash(password: str) -> str:
    if not LEAST_LETTERS <= len(password) <= MOST_LETTERS:
        raise InputError(f"A password has {LEAST_LETTERS} to {MOST_LETTERS} letters.", NOTHING, "Choose a longer one.")
    return generate_password_hash(password, METHOD)


@cache
def _nobodys() -> str:
    """A name that is not known takes as long as one that is."""
    return generate_password_hash("nobody has this password", METHOD)


def change_own_password(actor: Actor, old: str, new: str, here: str) -> None:
    """All other sessions of the person end."""
    with transaction() as session:
        person = stored(session, User, actor.id, lock=True)
        if not check_password_hash(person.password_hash, old[:MOST_LETTERS]):
            raise InputError("The old password is wrong.", NOTHING, "Type it again.")
        person.password_hash = _hash(new)
        _end_sessions(session, person.id, but=here)
        record(session, actor, None, "change own password", person=person.id)


def set_password(by: Actor, user_id: int, new: str) -> None:
    """For somebody who forgot it; all sessions of that person end."""
    with transaction() as session:
        person = stored(session, User, user_id, lock=True)
        person.password_hash = _hash(new)
        _end_sessions(session, user_id)
        record(session, by, None, "set password", person=user_id)


# ---- signing in and out ----------------------------------------------------------------------


def sign_in(login: str, password: str, address: str) -> tuple[Actor, str]:
    """Check a sign-in: who it is, and the token of the session. Raises InputError for a wrong one, PlumbError after too many.

    An attempt is counted before it is checked, one after another for a name: many at once are no way round the limit.
    """
    login, address = login.strip().lower()[:60], address[:60]
    with transaction() as session:
        attempt = _attempt(session, login, address)
    with transaction() as session:
        person = session.scalar(select(User).where(User.login == login, User.active))
        known = person.password_hash if person else _nobodys()
        good = check_password_hash(known, password[:MOST_LETTERS]) and person is not None
        if person is None or not good:
            raise InputError("The name or the password is wrong.", "You are not signed in.", "Type both again.")
        stored(session, SignInAttempt, attempt).succeeded = True
        token = secrets.token_urlsafe(32)
        session.add(SignedIn(user_id=person.id, token=_kept(token), address=address))
        return Actor(person.id, person.name, person.role), token


def _attempt(session: Session, login: str, address: str) -> int:
    session.execute(text("SELECT pg_advisory_xact_lock(hashtext(:login))"), {"login": login})
    recent = select(func.count()).select_from(SignInAttempt).where(
        SignInAttempt.at > datetime.now(UTC) - WINDOW, ~SignInAttempt.succeeded, SignInAttempt.login == login
    )  # fmt: skip
    here = session.scalar(recent.where(SignInAttempt.address == address)) or 0
    if here >= ATTEMPTS or (session.scalar(recent) or 0) >= FROM_ANYWHERE:
        raise PlumbError("There were too many wrong sign-ins for this name.", NOTHING, "Wait ten minutes and try again.")
    attempt = SignInAttempt(login=login, address=address, succeeded=False)
    session.add(attempt)
    session.flush()
    return attempt.id


# asked at every request
WHOSE = (
    select(User.id, User.name, User.role)
    .join(SignedIn, SignedIn.user_id == User.id)
    .where(SignedIn.token == bindparam("token"), SignedIn.ended_at.is_(None), SignedIn.at > bindparam("since"), User.active)
)


def signed_in(token: str) -> Actor | None:
    """Who a session's token belongs to; None where it has ended."""
    since = datetime.now(UTC) - timedelta(days=SESSION_DAYS)
    with transaction() as session:
        person = session.execute(WHOSE, {"token": _kept(token), "since": since}).first()
        return Actor(*person) if person else None


def sign_out(token: str) -> None:
    with transaction() as session:
        session.execute(update(SignedIn).where(SignedIn.token == _kept(token)).values(ended_at=func.now()))


def end_sessions(by: Actor, user_id: int) -> None:
    """Whoever is signed in as this person is so no longer."""
    with transaction() as session:
        stored(session, User, user_id)
        _end_sessions(session, user_id)
        record(session, by, None, "end sessions", person=user_id)


def _end_sessions(session: Session, user_id: int, but: str = "") -> None:
    mine = update(SignedIn).where(SignedIn.user_id == user_id, SignedIn.ended_at.is_(None), SignedIn.token != _kept(but))
    session.execute(mine.values(ended_at=func.now()))


def _kept(token: str) -> str:
    """As the database has it: who reads the table cannot sign in with it."""
    return hashlib.sha256(token.encode()).hexdigest()
