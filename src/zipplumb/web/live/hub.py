"""Live pages: in each web process one listener turns the database's word into server-sent events.

A change is worked out and rendered once per process, and the same bytes go to every page of the job; so what is
rendered here must not depend on who looks. Changes that come while one is worked out go together. A page that is
too slow is dropped nothing that it would miss: it is sent everything anew when it is ready again.
"""

from __future__ import annotations

import asyncio
import json
import logging
import threading
import time
from collections.abc import Awaitable, Callable, Iterable, Sequence
from typing import Any

import psycopg
from flask import Flask, render_template
from flask.ctx import RequestContext
from flask.testing import EnvironBuilder
from sqlalchemy import select
from sqlalchemy.orm import lazyload

from ...core.errors import PlumbError
from ...core.frames import Array
from ...jobs.kit.trust import why_due
from ...jobs.people import ENDED, still_signed_in
from ...jobs.place.details import kept_of, placed
from ...jobs.place.fitter import detail_of
from ...jobs.place.turning import Turning
from ...jobs.state.results import JobResults, load
from ...store.database import AWAY as DATABASE_AWAY
from ...store.database import CHANGED, TIP, database_url, snapshot
from ...store.models import Detail, Instrument, Station
from ..place.fitter_now import now_html
from ..rows import changed_html
from ..view import JobView, scene_of
from .listeners import Page, Watched, event_of
from .tip import told_of_tip

log = logging.getLogger(__name__)
HEARTBEAT_S, WATCH_S, TOGETHER_S, BEGIN_S = 5.0, 1.0, 0.03, 3.0
SESSIONS_S = 30.0  # between two looks whether sessions have ended by themselves
NO_TARGETS: tuple[frozenset[int], Turning | None] = frozenset(), None
SAY_MORE = ("back", "sheet")  # what says more than others, the most first: it is not lost among those that come with it
AWAY = "The database is away for a moment. Every confirmed hit is kept; this page goes on by itself."
NOT_SHOWN = "What changed could not be shown here. Every confirmed hit is kept. Load the page again."
Word = dict[str, Any]
Write = Callable[[bytes], Awaitable[None]]


class Hub:
    """Everybody who listens in this process."""

    def __init__(self, app: Flask):
        self.app = app
        self.lock = threading.Lock()
        self.working = threading.RLock()  # what is worked out goes out in that order
        self.jobs: dict[int, Watched] = {}
        self.kit: set[Page] = set()
        self.due: dict[int, Word] = {}
        self.wake, self.hearing = threading.Event(), threading.Event()
        self.away = False
        self.links: dict[int, bool] = {}
        # by fitter's link, the rows that it may hear of, and what is being turned
        self.targets: dict[int, tuple[frozenset[int], Turning | None]] = {}
        self.watched = self.sessions_seen = 0.0
        self.begun = False
        self.asked = EnvironBuilder(app).get_environ()

    # ---- on the loop: a page that listens ------------------------------------------------

    async def listen(self, to: str, write: Write, of_session: str = "") -> None:
        """Write events until cancelled, or until its session has ended. ``to``: "job 5", "link 5 7" (of that job) or "kit"."""
        job_id, link = (int(number) for number in f"{to} 0 0".split(" ")[1:3])
        page = Page(link or None, of_session)
        await write(b"retry: 700\n\n")
        await asyncio.to_thread(self._begin)
        with self.lock:
            watched = self.jobs.setdefault(job_id, Watched()) if job_id else None
            (self.kit if watched is None else watched.fitters if link else watched.pages).add(page)
        try:
            await asyncio.to_thread(self._whole, job_id, page)
            while True:
                try:
                    event = await asyncio.wait_for(page.events.get(), HEARTBEAT_S)
                except TimeoutError:
                    event = b": still here\n\n"
                if page.over:
                    return
                await write(event)
                if page.behind and page.events.empty():
                    await asyncio.to_thread(self._whole, job_id, page)
        finally:
            with self.lock:
                self.kit.discard(page)
                if watched := self.jobs.get(job_id):
                    watched.pages.discard(page)
                    watched.fitters.discard(page)
                    if not watched.pages and not watched.fitters:
                        self.jobs.pop(job_id)

    def _begin(self) -> None:
        """Both threads run, and the database is listened to: what changes from now on is heard."""
        with self.lock:
            if not self.begun:
                self.begun = True
                for work in (self._hear, self._work):
                    threading.Thread(target=work, daemon=True).start()
        self.hearing.wait(BEGIN_S)

    def _whole(self, job_id: int, page: Page) -> None:
        """Send a page the complete state, replacing all events queued for it."""
        with self.working:
            with self._as_asked():
                events = [event_of("kit", {"what": "begin"})] if not job_id else self._whole_of(job_id, page.link)
            page.loop.call_soon_threadsafe(page.begin_anew, events)

    def _whole_of(self, job_id: int, link: int | None) -> list[bytes]:
        """How a page begins; what is in the way is said as what it is."""
        try:
            return [self._begin_of(job_id, link)]
        except DATABASE_AWAY:
            log.warning("a page begins while the database is away", exc_info=log.isEnabledFor(logging.DEBUG))
            words = AWAY
        except PlumbError as error:
            words = str(error)
        except Exception:
            log.exception("job %s could not be shown to a page that begins", job_id)
            words = NOT_SHOWN
        return [event_of("trouble", {"words": words})]

    def _begin_of(self, job_id: int, link: int | None) -> bytes:
        watched = self.jobs.get(job_id)
        state, due, details = self._load(job_id)
        if watched is not None and watched.state is None:
            self._remember(watched, state, due, details)
        elif watched is not None:
            watched.joined = True
        if link is not None:
            return self._detail(state, link)
        scene, html = scene_of(state), self._all_html(JobView.of(state, due))
        return event_of("update", {"html": html, "scene": scene, "rows": list(scene["rows"]), "what": "begin"})

    def _send(self, pages: Iterable[Page], event: bytes, may_drop: bool = False) -> None:
        with self.lock:
            by_loop: dict[asyncio.AbstractEventLoop, list[Page]] = {}
            for page in pages:
                by_loop.setdefault(page.loop, []).append(page)

        def put(mine: list[Page]) -> None:
            for page in mine:
                page.put(event, may_drop)

        for loop, mine in by_loop.items():
            loop.call_soon_threadsafe(put, mine)

    # ---- hearing ---------------------------------------------------------------------------

    def _hear(self) -> None:
        while True:
            try:
                with psycopg.connect(database_url(), autocommit=True, connect_timeout=3) as connection:
                    connection.execute(f"LISTEN {CHANGED}")
                    connection.execute(f"LISTEN {TIP}")
                    self.hearing.set()
                    if self.away:
                        self.away = False
                        self._due(None, {"what": "back"})
                        self._send(self.kit, event_of("kit", {"what": "back"}))
                    while True:
                        for word in connection.notifies(timeout=WATCH_S):
                            self._heard(word.channel, json.loads(word.payload))
                            self._watch_links()
                        self._watch_links()
            except (psycopg.Error, *DATABASE_AWAY):
                pass  # said below
            except Exception:
                log.exception("the listener starts again")
            if not self.away:
                self.away = True
                for watched in list(self.jobs.values()):
                    self._send(watched.pages | watched.fitters, event_of("trouble", {"words": AWAY}))
            time.sleep(0.5)

    def _watch_links(self) -> None:
        """A link that hangs says nothing: what was last heard is judged here, every second or so."""
        now = time.monotonic()
        if now - self.watched < WATCH_S:
            return
        self.watched = now
        with snapshot() as session:
            query = select(Instrument).options(lazyload(Instrument.calibration))
            connected = {i.id: i.connected for i in session.scalars(query)}
            stations = session.scalars(select(Station.job_id).join(Instrument, Instrument.station_id == Station.id)).all()
        if now - self.sessions_seen > SESSIONS_S:
            self.sessions_seen = now
            self._end_pages()
        before, self.links = self.links, connected
        if before and before != connected:
            self._send(self.kit, event_of("kit", {"what": "kit", "instrument": None}))
            for job_id in set(stations):
                self._due(job_id, {"what": "kit"})

    def _end_pages(self) -> None:
        """A page ends with the session of whoever looks at it."""
        with self.lock:
            pages = [page for page in self._everybody() if page.of_session]
        with snapshot() as session:
            still = still_signed_in(session, {page.of_session for page in pages})
        for page in pages:
            if page.of_session not in still:
                page.loop.call_soon_threadsafe(page.end)

    def _everybody(self) -> set[Page]:
        return self.kit.union(*(watched.pages for watched in self.jobs.values()))

    def _heard(self, channel: str, word: Word) -> None:
        if channel == TIP:
            self._send(self.kit, event_of("tip", {"instrument": word["instrument"], "tip": word["tip"]}), may_drop=True)
            for watched in list(self.jobs.values()):
                try:
                    self._tip(watched, word)
                except Exception:  # of one job; the others, and what changes, are heard all the same
                    self._say_once(watched)
            return
        if word["what"] == ENDED:
            self._end_pages()
            return
        if word["what"] in ("kit", "back"):
            self._send(self.kit, event_of("kit", word))
        self._due(word["job"], word)

    def _due(self, job_id: int | None, word: Word) -> None:
        """A change is to be worked out, together with those of the same job that wait already."""
        with self.lock:
            for number in self.jobs if job_id is None else {job_id} & set(self.jobs):
                self.due[number] = _together(self.due.get(number), word)
            self.wake.set()

    # ---- working out ------------------------------------------------------------------------

    def _work(self) -> None:
        while True:
            self.wake.wait()
            with self.lock:
                due, self.due = self.due, {}
                self.wake.clear()
            began = time.monotonic()
            for job_id, word in due.items():
                self._one(job_id, word)
            took = time.monotonic() - began
            time.sleep(min(took, max(0.0, TOGETHER_S - took)))  # what comes meanwhile goes together; half of the time at most

    def _one(self, job_id: int, word: Word) -> None:
        """Process one job's change; an error is reported to its pages and delays no other job."""
        try:
            with self.working:
                self._changed(job_id, word)
        except PlumbError:
            return
        except DATABASE_AWAY:
            log.warning("a change could not be worked out; it is tried again", exc_info=True)
            time.sleep(0.5)
            self._due(job_id, word)
        except Exception:
            log.exception("a change of job %s could not be shown", job_id)
            if watched := self.jobs.get(job_id):
                watched.state = None  # the next change is shown whole
                self._send(watched.pages | watched.fitters, event_of("trouble", {"words": NOT_SHOWN}))

    def _load(self, job_id: int) -> tuple[JobResults, str, Sequence[Detail]]:
        with snapshot() as session:
            state = load(session, job_id)
            return state, why_due(session, state.instrument, job_id), kept_of(session, job_id)

    def _load_hits(self, job_id: int, named: set[int]) -> JobResults:
        with snapshot() as session:
            return load(session, job_id, named)

    def _remember(self, watched: Watched, state: JobResults, due: str, details: Sequence[Detail]) -> tuple[JobView, str]:
        watched.due, watched.details = due, details
        view = JobView.of(state, due)
        now = render_template("_now.html", view=view, oob=True)
        watched.state, watched.texts, watched.now = state, view.texts, now
        return view, now

    def _as_asked(self) -> RequestContext:
        """Links are made without a page that asks."""
        return self.app.request_context(dict(self.asked))

    def _changed(self, job_id: int, word: Word) -> None:
        watched = self.jobs.get(job_id)
        if watched is not None:
            with self._as_asked():
                self._work_out(watched, job_id, word)

    def _work_out(self, watched: Watched, job_id: int, word: Word) -> None:
        before, texts, said = watched.state, watched.texts, watched.now
        named = word.get("named")
        if named is None:
            state, due, details = self._load(job_id)
        else:
            state, due, details = self._load_hits(job_id, named), watched.due, watched.details
        view, now = self._remember(watched, state, due, details)
        joined, watched.joined = watched.joined, False
        if word["what"] == "back" or before is None or not state.sheet.stands_as(before.sheet):
            html, rows = self._all_html(view), list(state.sheet.index)
            scene = scene_of(state)
        else:
            changed = [(view.texts[i], texts.get(i)) for i in view.texts.differing(texts)]
            rows_html = [changed_html(row, None if joined else was, job_id) for row, was in changed]
            html = "".join([now] * (joined or now != said) + rows_html)
            rows = [row.id for row in state.sheet.of(state.results.differing(before.results))]
            scene = scene_of(state, rows)
        message = {
            "html": html, "scene": scene, "rows": [str(r) for r in rows], "tone": word.get("tone"),
            "what": word.get("what"), "at": word.get("at"),
        }  # fmt: skip
        self._send(watched.pages, event_of("update", message))
        for page in list(watched.fitters):
            self._send({page}, self._detail(state, page.link or 0))

    def _detail(self, state: JobResults, link: int) -> bytes:
        """The fitter's current instruction, or that the link has ended."""
        with snapshot() as session:
            detail = detail_of(session, link)
            if detail is None or detail.job_id != state.job.id:
                self.targets.pop(link, None)
                return event_of("gone", {})
            now = placed(state, detail)
            self.targets[link] = frozenset(now.recipe.targets), Turning.of(state, now)
            return event_of("detail", {"html": now_html(state, now)})

    def _all_html(self, view: JobView) -> str:
        now = render_template("_now.html", view=view, oob=True)
        return now + render_template("_sheet_rows.html", view=view, oob=True)

    def _say_once(self, watched: Watched) -> None:
        """A fault in telling the tip, once for each state of the job: it comes again at every tick."""
        if watched.faulty is not watched.state:
            watched.faulty = watched.state
            log.exception("the tip could not be told")

    def _turnings(self, watched: Watched, state: JobResults) -> tuple[Turning, ...]:
        """What is being turned, worked out once a state, when something moves."""
        if watched.turnings is None or watched.turnings[0] is not state:
            found = (Turning.of(state, placed(state, detail)) for detail in watched.details)
            watched.turnings = state, tuple(each for each in found if each is not None)
        return watched.turnings[1]

    def _tip(self, watched: Watched, word: Word) -> None:
        state = watched.state
        stands = None if state is None else state.stations.get(word["station"])
        if state is None or stands is None:
            return
        message, tip = told_of_tip(state, stands, word)
        self._to_fitters(watched, state, message.get("place"), word.get("at"), tip)
        for turning in self._turnings(watched, state) if watched.pages else ():
            if told := _as_turned(turning, state, message.get("place"), word.get("at"), tip):
                message["place"] = told
                break
        self._send(watched.pages, event_of("tip", message), may_drop=True)

    def _to_fitters(self, watched: Watched, state: JobResults, place: dict | None, at: float | None, tip: Array) -> None:
        """Where the reflector is, and what is left to be turned, to those whose detail carries that place."""
        for page in list(watched.fitters):
            targets, turning = self.targets.get(page.link or 0, NO_TARGETS)
            told = (_as_turned(turning, state, place, at, tip) if turning is not None else None) or place
            if told is not None and told["row"] in targets:
                self._send([page], event_of("place", told), may_drop=True)


def _as_turned(turning: Turning, state: JobResults, place: dict | None, at: float | None, tip: Array) -> dict | None:
    """What is missing at the target on which the reflector rests, and what is left to be turned; None where it rests on none
    of what is turned."""
    height = turning.height_told(state, tip)
    told = {**height, "at": at} if height else place
    left = turning.told(told["row"], tip) if told is not None else {}
    return told | left if told is not None and (height or left) else None


def _together(waiting: Word | None, word: Word) -> Word:
    """Two changes as one: the newest word of each sort, and every row that either names."""
    named = {word["row"]} if word["what"] == "hits" and word.get("row") else None
    if waiting is None:
        return {**word, "named": named}
    both = waiting["named"] | named if named is not None and waiting["named"] is not None else None
    what = next((say for say in SAY_MORE if say in (waiting["what"], word["what"])), word["what"])
    newer = {name: word.get(name) if word.get(name) is not None else waiting.get(name) for name in ("tone", "at")}
    return {**word, **newer, "what": what, "named": both}
