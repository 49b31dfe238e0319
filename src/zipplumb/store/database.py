"""Sessions, and the word that goes round when something has changed."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import TypeVar

from sqlalchemy import Engine, create_engine, text
from sqlalchemy.exc import InterfaceError, OperationalError, TimeoutError
from sqlalchemy.orm import Session, sessionmaker

from ..core.errors import InputError

T = TypeVar("T")
AWAY = (OperationalError, InterfaceError, TimeoutError)  # what is raised while the database is away: it passes by itself
READS = {"reads": True}  # marks sessions of which nothing is kept
CHANGED, TIP, ORDER = "zp_changed", "zp_tip", "zp_order"


def database_url() -> str:
    """PostgreSQL address from ZIPPLUMB_DATABASE, in libpq's own form."""
    return os.environ["ZIPPLUMB_DATABASE"]


def _url() -> str:
    return database_url().replace("postgresql://", "postgresql+psycopg://", 1)


@lru_cache(maxsize=1)
def engine() -> Engine:
    return create_engine(_url(), pool_pre_ping=True, pool_size=10, max_overflow=30, pool_timeout=5)


@lru_cache(maxsize=1)
def _sessions() -> sessionmaker[Session]:
    return sessionmaker(engine(), expire_on_commit=False)


@lru_cache(maxsize=1)
def _snapshots() -> sessionmaker[Session]:
    """Connections that are configured once and are not tested before each use: that is half the way of a hit."""
    reading = create_engine(_url(), pool_size=4, max_overflow=30, pool_timeout=5, isolation_level="REPEATABLE READ")
    return sessionmaker(reading, expire_on_commit=False, info=READS)


@contextmanager
def transaction() -> Iterator[Session]:
    """One act: committed whole, or not at all."""
    with _sessions().begin() as session:
        yield session


@contextmanager
def snapshot() -> Iterator[Session]:
    """For reading: everything as it stood at one moment. After the database was away the first may fail: try again."""
    with _snapshots()() as session:
        yield session


def only_reads(session: Session) -> bool:
    """Nothing that it writes would be kept: it is a snapshot's."""
    return bool(session.info.get("reads"))


def tell(session: Session, job_id: int | None, what: str, **more) -> None:
    """Let every page know, once this transaction is committed."""
    session.execute(
        text("SELECT pg_notify(:channel, :payload)"),
        {"channel": CHANGED, "payload": json.dumps({"job": job_id, "what": what, **more})},
    )


def order(session: Session, instrument_id: int) -> None:
    """Let the link of an instrument see that something is to be asked of it, once this transaction is committed."""
    payload = json.dumps({"instrument": instrument_id})
    session.execute(text("SELECT pg_notify(:channel, :payload)"), {"channel": ORDER, "payload": payload})


def stored(session: Session, model: type[T], key: int | None, lock: bool = False) -> T:
    """The stored object of a key, locked if one action must follow another. Raises InputError where nothing is.

    The lock lets others refer to it: else a press of an instrument (kept first, its job locked then) and an act on the job
    (which locks the instrument then) would wait for each other.
    """
    locked = {"key_share": True} if lock else None
    found = session.get(model, key, with_for_update=locked) if key is not None and 0 < key < 2**31 else None
    if found is None:
        what = model.__name__.lower()
        raise InputError(f"That {what} is not there.", "Nothing was changed.", "Choose one from the list.")
    return found
