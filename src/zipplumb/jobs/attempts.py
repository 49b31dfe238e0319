"""How often, and how many at once, may guess at passwords, without the right person being locked out by it.

A browser in which somebody has signed in before is counted by itself, so that guesses from elsewhere do not reach it
(OWASP, "Slow Down Online Guessing Attacks with Device Cookies").
"""

from __future__ import annotations

import ipaddress
import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, func, select, text
from sqlalchemy.orm import Session

from ..core.errors import PlumbError
from ..store.models import SignInAttempt

ATTEMPTS, FROM_ANYWHERE, FROM_ONE_PLACE, WINDOW = 5, 30, 60, timedelta(minutes=10)
IN_HAND, OF_ONE_PLACE, PATIENCE_S = 4, 3, 5.0  # strangers' that are checked or wait at a time, in a process
NOTHING = "Nothing was changed."


class TooManyAtOnce(PlumbError):
    """Nothing was checked."""

    def __init__(self) -> None:
        super().__init__("Too many sign in at this moment.", NOTHING, "Try again in some seconds.")


@dataclass(frozen=True)
class Origin:
    """Where an attempt comes from: ``place`` it is counted by; ``known``: a browser or a session of that very person."""

    place: str
    known: bool = False

    @classmethod
    def address(cls, address: str) -> Origin:
        """An address, of version 6 its network: one household or attacker has a whole one."""
        try:
            ip = ipaddress.ip_address(address)
        except ValueError:
            return cls(address[:60])
        network = str(ipaddress.ip_network((ip, 64), strict=False)) if ip.version == 6 else address
        return cls(network[:60])

    @classmethod
    def browser(cls, number: str) -> Origin:
        return cls(f"browser {number}"[:60], known=True)

    @classmethod
    def session(cls, kept_token: str) -> Origin:
        return cls(f"session {kept_token}"[:60], known=True)


def count_attempt(session: Session, login: str, origin: Origin) -> int:
    """Count an attempt before it is checked: many at once are no way round the limit. Returns its id.

    Raises PlumbError after too many.
    """
    names = sorted({f"name {login}", f"place {origin.place}"})  # in one order, so that none waits for another in a circle
    for name in names:
        session.execute(text("SELECT pg_advisory_xact_lock(hashtext(:name))"), {"name": name})

    def wrong(*where: ColumnElement[bool]) -> int:
        recent = SignInAttempt.at > datetime.now(UTC) - WINDOW, ~SignInAttempt.succeeded
        return session.scalar(select(func.count()).select_from(SignInAttempt).where(*recent, *where)) or 0

    of_name, of_place = SignInAttempt.login == login, SignInAttempt.address == origin.place
    if wrong(of_name, of_place) >= ATTEMPTS:
        raise PlumbError("There were too many wrong sign-ins for this name.", NOTHING, "Wait ten minutes and try again.")
    if not origin.known and (wrong(of_name) >= FROM_ANYWHERE or wrong(of_place) >= FROM_ONE_PLACE):
        raise PlumbError(
            "There were too many wrong sign-ins.", NOTHING,
            "Sign in where you have signed in before, or wait ten minutes and try again.",
        )  # fmt: skip
    attempt = SignInAttempt(login=login, address=origin.place, succeeded=False)
    session.add(attempt)
    session.flush()
    return attempt.id


_strangers, _friends = threading.Semaphore(1), threading.Semaphore(2)
_lock, _in_hand = threading.Lock(), Counter[str]()


@contextmanager
def in_turn(origin: Origin) -> Iterator[None]:
    """Passwords are slow to check on purpose: strangers' one after another, and so few at once that pages go on.

    Raises TooManyAtOnce.
    """
    turn = _friends if origin.known else _strangers
    with _lock:
        full = not origin.known and (_in_hand.total() >= IN_HAND or _in_hand[origin.place] >= OF_ONE_PLACE)
        if full:
            raise TooManyAtOnce
        _in_hand[origin.place] += not origin.known
    try:
        if not turn.acquire(timeout=PATIENCE_S):
            raise TooManyAtOnce
        try:
            yield
        finally:
            turn.release()
    finally:
        with _lock:
            _in_hand[origin.place] -= not origin.known
            if not _in_hand[origin.place]:
                del _in_hand[origin.place]
