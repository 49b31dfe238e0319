"""Live pages: one listener per web process turns the database's word into server-sent events.

A change is worked out and rendered once per process, and the same bytes go to every page of
the job; so what is rendered here must not depend on who looks.
"""

from __future__ import annotations

import json
import logging
import queue
import threading
import time
from collections.abc import Iterator

import numpy as np
import psycopg
from flask import Flask, render_template
from sqlalchemy import select
from sqlalchemy.orm import lazyload

from ..core.errors import PlumbError
from ..core.units import Units, length_text
from ..jobs.results import JobResults, load
from ..store.database import CHANGED, TIP, database_url, transaction
from ..store.models import Instrument, Station
from .rows import row_html
from .view import JobView, scene_of

log = logging.getLogger(__name__)
BACKLOG = 200
HEARTBEAT_S = 5.0
WATCH_S = 1.0


def _event(name: str, data: dict) -> bytes:
    return f"event: {name}\ndata: {json.dumps(data, separators=(',', ':'))}\n\n".encode()


def _as_they_come(mine: queue.Queue) -> Iterator[bytes]:
    """Events for one page, and a sign of life while there are none."""
    while True:
        try:
            yield mine.get(timeout=HEARTBEAT_S)
        except queue.Empty:
            yield b": still here\n\n"


class Hub:
    """Everybody who listens in this process, by job."""

    def __init__(self, app: Flask):
        self.app = app
        self.lock = threading.Lock()
        self.pages: dict[int, set[queue.Queue]] = {}
        self.sent: dict[int, dict[str, str]] = {}
        self.latest: dict[int, JobResults] = {}
        self.kit_pages: set[queue.Queue] = set()
        self.away = False
        self.links: dict[int, bool] = {}
        self.watched = 0.0
        self._thread: threading.Thread | None = None

    def stream(self, job_id: int) -> Iterator[bytes]:
        """Events for one page, beginning with everything as it stands."""
        mine: queue.Queue = queue.Queue(BACKLOG)
        with self.lock:
            self.pages.setdefault(job_id, set()).add(mine)
            self._start()
        try:
            yield b"retry: 700\n\n"
            yield from self._whole(job_id)
            yield from _as_they_come(mine)
        finally:
            with self.lock:
                self.pages[job_id].discard(mine)
                if not self.pages[job_id]:
                    for known in (self.pages, self.sent, self.latest):
                        known.pop(job_id, None)

    def kit_stream(self) -> Iterator[bytes]:
        """For a page of the kit: word of every change, upon which it asks for itself anew, and every tip."""
        mine: queue.Queue = queue.Queue(BACKLOG)
        with self.lock:
            self.kit_pages.add(mine)
            self._start()
        try:
            yield b"retry: 700\n\n" + _event("kit", {"what": "begin"})
            yield from _as_they_come(mine)
        finally:
            with self.lock:
                self.kit_pages.discard(mine)

    def _tell_kit(self, event: bytes, may_drop: bool = False) -> None:
        with self.lock:
            pages = list(self.kit_pages)
        for page in pages:
            if page.full() or (may_drop and page.qsize() > 3):
                continue
            page.put_nowait(event)

    def _start(self) -> None:
        if self._thread is None:
            self._thread = threading.Thread(target=self._listen, daemon=True)
            self._thread.start()

    def _whole(self, job_id: int) -> list[bytes]:
        try:
            _, scene, state = self._rendered(job_id)
        except Exception:
            log.warning("a page begins while the database is away", exc_info=True)
            return [_event("trouble", {"words": AWAY})]
        self.latest.setdefault(job_id, state)  # for the other pages, what changed since theirs is still to be sent
        return [_event("update", {"html": self._all_html(state), "scene": scene, "rows": list(scene["rows"])})]

    def _rendered(self, job_id: int) -> tuple[dict[str, str], dict, JobResults]:
        """The Now band and every row, what the stage draws, and the job itself."""
        with transaction() as session:
            state = load(session, job_id)
        view = JobView.of(state)
        with self.app.test_request_context():  # links are made without a page that asks
            pieces = {"now": render_template("_now.html", view=view, oob=True)}
            for row in view.rows:
                pieces[f"row-{row.id}"] = row_html(row, job_id, oob=True)
        return pieces, scene_of(state), state

    def _all_html(self, state: JobResults) -> str:
        view = JobView.of(state)
        with self.app.test_request_context():
            now = render_template("_now.html", view=view, oob=True)
            return now + render_template("_sheet_rows.html", view=view, oob=True)

    # ---- listening ---------------------------------------------------------------------

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(database_url(), autocommit=True, connect_timeout=3) as connection:
                    connection.execute(f"LISTEN {CHANGED}")
                    connection.execute(f"LISTEN {TIP}")
                    if self.away:
                        self.away = False
                        self._everybody(lambda job_id: self._changed(job_id, {"what": "back"}))
                        self._tell_kit(_event("kit", {"what": "back"}))
                    while True:
                        for word in connection.notifies(timeout=WATCH_S, stop_after=100):
                            self._heard(word.channel, json.loads(word.payload))
                        self._watch_links()
            except psycopg.Error:
                pass
            except Exception:
                log.exception("the listener starts again")
            if not self.away:
                self.away = True
                self._everybody(lambda job_id: self._send(job_id, _event("trouble", {"words": AWAY})))
            time.sleep(0.5)

    def _watch_links(self) -> None:
        """A link that hangs says nothing: what was last heard is judged here, every second or so."""
        now = time.monotonic()
        if now - self.watched < WATCH_S:
            return
        self.watched = now
        with transaction() as session:
            query = select(Instrument).options(lazyload(Instrument.calibration))
            connected = {i.id: i.connected for i in session.scalars(query)}
            stations = session.scalars(select(Station.job_id).join(Instrument, Instrument.station_id == Station.id)).all()
        before, self.links = self.links, connected
        if before and before != connected:
            self._tell_kit(_event("kit", {"what": "kit", "instrument": None}))
            for job_id in set(stations) & set(self.pages):
                self._changed(job_id, {"what": "kit"})

    def _heard(self, channel: str, word: dict) -> None:
        if channel == TIP:
            self._tell_kit(_event("tip", {"instrument": word["instrument"], "tip": word["tip"]}), may_drop=True)
            self._everybody(lambda job_id: self._tip(job_id, word))
            return
        if word["what"] in ("kit", "back"):
            self._tell_kit(_event("kit", word))
        if word["job"] is None:
            self._everybody(lambda job_id: self._changed(job_id, word))
        elif word["job"] in self.pages:
            self._changed(word["job"], word)

    def _everybody(self, call) -> None:
        for job_id in list(self.pages):
            call(job_id)

    def _changed(self, job_id: int, word: dict) -> None:
        try:
            pieces, scene, state = self._rendered(job_id)
        except PlumbError:
            return
        except Exception:
            log.warning("a change could not be worked out; it comes with the next", exc_info=True)
            return
        before = self.sent.get(job_id, {})
        self.sent[job_id] = pieces
        previous, self.latest[job_id] = self.latest.get(job_id), state
        if word.get("what") == "back" or not before or list(pieces) != list(before):
            html, rows = self._all_html(state), list(scene["rows"])
        else:
            html = "".join(v for k, v in pieces.items() if before.get(k) != v)
            rows = [r for r in scene["rows"] if previous is None or previous.results.get(int(r)) is not state.results[int(r)]]
        scene = {**scene, "rows": {r: scene["rows"][r] for r in rows}}
        message = {
            "html": html,
            "scene": scene,
            "rows": rows,
            "tone": word.get("tone"),
            "what": word.get("what"),
            "at": word.get("at"),
        }
        self._send(job_id, _event("update", message))

    def _tip(self, job_id: int, word: dict) -> None:
        state = self.latest.get(job_id)
        if state is None or word["station"] not in state.kit.stations:
            return
        world = state.kit.stations[word["station"]].world_from_station.points(word["tip"])
        alignment = state.alignment
        tip = alignment.points(world) if alignment else world
        message = {
            "aligned": bool(alignment),
            "tip": [round(float(v), 3) for v in tip],
            "text": _tip_text(tip, state.job.units),
        }
        if alignment:
            message |= _from_nominal(state, tip, word.get("radius"))
        self._send(job_id, _event("tip", message), may_drop=True)

    def _send(self, job_id: int, event: bytes, may_drop: bool = False) -> None:
        with self.lock:
            pages = list(self.pages.get(job_id, ()))
        for page in pages:
            if may_drop and page.qsize() > 3:
                continue
            try:
                page.put_nowait(event)
            except queue.Full:
                log.warning("a page is too slow; it is told everything when it comes back")


AWAY = "The database is away for a moment. Every confirmed hit is kept; this page goes on by itself."


def _tip_text(tip, units: Units) -> str:
    return "  ".join(f"{axis} {length_text(float(v), units):>9}" for axis, v in zip("XYZ", tip, strict=True))


def _from_nominal(state: JobResults, tip_part, tip_radius_mm: float | None) -> dict:
    """How far the tip's surface is from the current row's nominal, mm."""
    height = state.current.recipe.height_over_nominal(np.asarray(tip_part)[None]) if state.current else None
    if height is None or tip_radius_mm is None:
        return {}
    return {"off": round(float(height[0]) - tip_radius_mm, 3)}
