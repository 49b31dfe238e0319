"""Who listens: pages, the job that they look at as it was sent last, and events as they are sent."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from ...core.sameness import Layered
from ...exchange.table import RowText
from ...jobs.place.turning import Turning
from ...jobs.state.results import JobResults
from ...store.models import Detail

BACKLOG, TIPS = 60, 3


def event_of(name: str, data: dict) -> bytes:
    """A server-sent event (HTML standard, 9.2)."""
    return f"event: {name}\ndata: {json.dumps(data, separators=(',', ':'))}\n\n".encode()


class Page:
    """One open page, on the loop that writes to it."""

    def __init__(self, link: int | None = None, of_session: str = ""):
        self.link = link  # a fitter's: it hears of one detail only
        self.of_session, self.over = of_session, False  # with which it ends
        self.loop = asyncio.get_running_loop()
        self.events: asyncio.Queue[bytes] = asyncio.Queue()
        self.behind = False

    def put(self, event: bytes, may_drop: bool) -> None:
        if self.behind or (may_drop and self.events.qsize() > TIPS):
            return
        if self.events.qsize() >= BACKLOG:
            self.behind = True
            return
        self.events.put_nowait(event)

    def end(self) -> None:
        self.over = True
        self.events.put_nowait(b"")

    def begin_anew(self, events: Iterable[bytes]) -> None:
        """All that was to be sent is in these."""
        self.behind = False
        while not self.events.empty():
            self.events.get_nowait()
        for event in events:
            self.events.put_nowait(event)


@dataclass(kw_only=True)
class Watched:
    """A job that somebody looks at, as it was sent last."""

    pages: set[Page] = field(default_factory=set)
    fitters: set[Page] = field(default_factory=set)
    state: JobResults | None = None
    texts: Layered[int, RowText] = field(default_factory=lambda: Layered({}))
    now: str = ""
    due: str = ""  # why the instrument is to be checked, as known when more than hits came
    details: Sequence[Detail] = ()  # what is moved to its place, as known when more than hits came
    turnings: tuple[JobResults, tuple[Turning, ...]] | None = None  # what is being turned, as of that state
    faulty: JobResults | None = None  # in this state the tip cannot be told
    joined: bool = False  # a page began since, which may have seen more than what was sent last
