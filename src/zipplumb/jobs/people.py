"""People, their passwords and their sessions."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from functools import cache

from sqlalchemy import bindparam, func, select, update
from sqlalchemy.orm import Session
from werkzeug.security import check_password_hash, generate_password_hash

from ..core.errors import InputError
from ..store.database import stored, tell, transaction
from ..store.models import SignedIn, SignInAttempt, User
from .actor import ROLES, Actor, record
from .attempts import NOTHING, Origin, count_attempt, in_turn
from .editions import edition_of, must_be_as_seen

LEAST_LETTERS, MOST_LETTERS = 10, 200
SESSION_DAYS, IDLE, SEEN_EVERY = 30, timedelta(hours=12), timedelta(minutes=1)
METHOD = "scrypt"  # slow on purpose
ENDED = "ended"  # the word that goes round when sessions have ended


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


def change_person(by: Actor, user_id: int, name: str, role: str, active: bool, seen: str | None = None) -> None:
    """Name, role, and whether somebody may sign in. One administrator stays."""
    bosses = select(User.id).where(User.role == "administrator", User.active).order_by(User.id).with_for_update(key_share=True)
    with transaction() as session:
        session.execute(bosses)  # one after another, else two could demote each other
        person = stored(session, User, user_id, lock=True)
        must_be_as_seen(edition_of(person), seen, person.name)
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
    """All other sessions of the person end. A wrong old password counts as a wrong sign-in of this session does."""
    origin = Origin.session(_kept(here))
    with transaction() as session:
        attempt = count_attempt(session, stored(session, User, actor.id).login, origin)
        known = stored(session, User, actor.id).password_hash
    with in_turn(origin):
        good = check_password_hash(known, old[:MOST_LETTERS])
    if not good:
        raise InputError("The old password is wrong.", NOTHING, "Type it again.")
    with transaction() as session:
        person = stored(session, User, actor.id, lock=True)
        if person.password_hash != known:
            raise InputError("The password was changed at this moment.", NOTHING, "Sign in with the new one.")
        stored(session, SignInAttempt, attempt).succeeded = True
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


def sign_in(login: str, password: str, address: str, browser: str = "") -> tuple[Actor, str]:
    """Check a sign-in: who it is, and the token of the session. Raises InputError for a wrong one, PlumbError after too many.

    ``browser``: the number of one in which this person has signed in before, by its own word.
    """
    login, address = login.strip().lower()[:60], address[:60]
    origin = Origin.browser(browser) if browser else Origin.address(address)
    with in_turn(origin):
        with transaction() as session:
            attempt = count_attempt(session, login, origin)
            known = session.scalar(select(User.password_hash).where(User.login == login, User.active))
        good = check_password_hash(known or _nobodys(), password[:MOST_LETTERS])
    with transaction() as session:
        person = session.scalar(select(User).where(User.login == login, User.active))
        if person is None or not good or person.password_hash != known:
            raise InputError("The name or the password is wrong.", "You are not signed in.", "Type both again.")
        stored(session, SignInAttempt, attempt).succeeded = True
        token = secrets.token_urlsafe(32)
        session.add(SignedIn(user_id=person.id, token=_kept(token), address=address))
        actor = Actor(person.id, person.name, person.role)
        record(session, actor, None, "sign in", person=person.id, address=address)
        return actor, token


# asked at every request
LASTS = (
    SignedIn.ended_at.is_(None), SignedIn.at > bindparam("since"), SignedIn.seen_at > bindparam("idle"), User.active,
)  # fmt: skip
OF_PEOPLE = select(SignedIn.token).join(User, SignedIn.user_id == User.id).where(*LASTS)
WHOSE = (
    select(User.id, User.name, User.role, User.single_keys, SignedIn.seen_at)
    .join(SignedIn, SignedIn.user_id == User.id)
    .where(SignedIn.token == bindparam("token"), *LASTS)
)


def signed_in(token: str) -> Actor | None:
    """Who a session's token belongs to; None where it has ended, by itself too after so long without a request."""
    now = datetime.now(UTC)
    with transaction() as session:
        found = session.execute(WHOSE, {"token": _kept(token), **_limits(now)}).first()
        if found is None:
            return None
        if now - found.seen_at > SEEN_EVERY:
            session.execute(update(SignedIn).where(SignedIn.token == _kept(token)).values(seen_at=now))
        return Actor(found.id, found.name, found.role, found.single_keys)


def set_single_keys(actor: Actor, on: bool) -> None:
    """Whether letters that are pressed alone act for this person."""
    with transaction() as session:
        stored(session, User, actor.id).single_keys = on
        record(session, actor, None, "single keys", person=actor.id, after={"on": on})


def still_signed_in(session: Session, tokens: Iterable[str]) -> set[str]:
    """Those of some sessions that have not ended."""
    kept = {_kept(token): token for token in tokens}
    last = session.scalars(OF_PEOPLE.where(SignedIn.token.in_(kept)), _limits(datetime.now(UTC)))
    return {kept[each] for each in last}


def _limits(now: datetime) -> dict[str, datetime]:
    """Since when a session may have begun, and been seen last."""
    return {"since": now - timedelta(days=SESSION_DAYS), "idle": now - IDLE}


def sign_out(actor: Actor, token: str) -> None:
    with transaction() as session:
        tell(session, None, ENDED)
        session.execute(update(SignedIn).where(SignedIn.token == _kept(token)).values(ended_at=func.now()))
        record(session, actor, None, "sign out", person=actor.id)


def end_sessions(by: Actor, user_id: int) -> None:
    """End all sessions of a person."""
    with transaction() as session:
        stored(session, User, user_id)
        _end_sessions(session, user_id)
        record(session, by, None, "end sessions", person=user_id)


def _end_sessions(session: Session, user_id: int, but: str = "") -> None:
    mine = update(SignedIn).where(SignedIn.user_id == user_id, SignedIn.ended_at.is_(None), SignedIn.token != _kept(but))
    session.execute(mine.values(ended_at=func.now()))
    tell(session, None, ENDED)


def _kept(token: str) -> str:
    """The token as the database stores it: who reads the table cannot sign in with it."""
    return hashlib.sha256(token.encode()).hexdigest()
